<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { post, query, type Device, type Job, listAll } from '../api/call'
import { useAttempt } from '../composables/attempt'
import ProblemNote from './ProblemNote.vue'

// Tries a device's newest version out on another device of its family.
const props = defineProps<{ device: Device }>()
const router = useRouter()
const on = ref('')
const family = useQuery({
  key: () => ['family', props.device.dialect],
  query: () => listAll<Device>('/devices' + query({ selector: 'dialect=' + props.device.dialect })),
})
const others = computed(() => (family.data.value ?? []).filter((d) => d.name !== props.device.name && !d.member))
const { busy, trouble, attempt } = useAttempt()
const hold = () =>
  attempt(async () => {
    const j = await post<Job>('/restore-tests', { ref: props.device.name, on: on.value }, { 'Idempotency-Key': crypto.randomUUID() })
    void router.push('/jobs/' + j.id)
  })
</script>

<template>
  <details class="card mb-4 p-3">
    <summary class="cursor-pointer font-semibold">Try the newest version out</summary>
    <p v-if="!others.length" class="mt-2 text-faded">
      A restore test takes another device of the family, a spare or a simulated one. None is known here.
    </p>
    <form v-else class="mt-2 grid gap-2" @submit.prevent="hold">
      <label class="grid gap-1"
        >On<select v-model="on" class="field" name="restore-test-on">
          <option value="" disabled>choose a device</option>
          <option v-for="d in others" :key="d.id" :value="d.name">{{ d.name }}{{ d.state === 'steady' ? '' : ', ' + d.state }}</option>
        </select></label
      >
      <p v-if="on" class="text-gone-ink">
        For a while {{ on }} runs what {{ device.name }} runs, with its names and addresses; then what ran there before is put back.
      </p>
      <button class="button justify-center" :disabled="!on || busy">Make a restore test</button>
      <ProblemNote :error="trouble" />
    </form>
  </details>
</template>
