<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Device, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import { useFleet } from '../fleet'

// Tries a device's newest version out on another device of its family.
const props = defineProps<{ device: Device }>()
const router = useRouter()
const fleet = useFleet()
const on = ref('')
const others = computed(() =>
  fleet.devices
    .filter((d) => d.name !== props.device.name && d.dialect === props.device.dialect && !d.member)
    .map((d) => ({ value: d.name, label: d.name + (d.state === 'in sync' ? '' : ', ' + d.state) })),
)
const { busy, trouble, attempt } = useAttempt()
const key = crypto.randomUUID()
const hold = () =>
  attempt(async () => {
    const j = await post<Job>('/restore-tests', { ref: props.device.name, on: on.value }, { 'Idempotency-Key': key })
    void router.push('/jobs/' + j.id)
  })
</script>

<template>
  <p v-if="!others.length" class="text-faded">
    A restore test takes another device of the family, a spare or a simulated one. None is known here.
  </p>
  <AppForm v-else :busy="busy" :trouble="trouble" deed="Make a restore test" :unable="!on" @send="hold">
    <FormField v-model="on" label="On" name="restore-test-on" type="select" :options="others" />
    <p v-if="on" class="text-gone-ink">
      For a while {{ on }} runs what {{ device.name }} runs, with its names and addresses; then what ran there before is put back.
    </p>
  </AppForm>
</template>
