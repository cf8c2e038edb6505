<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { get, post, type Device, type Job, type Preview } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { ended } from '../composables/job'
import { once } from '../composables/once'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import { useFleet } from '../fleet'
import MeantField from '../push/MeantField.vue'
import StepList from '../push/StepList.vue'
import { useSession } from '../session'

// Tries a device's newest version out on a spare of its family: what would be sent is looked at, and the spare's name
// is typed.
const props = defineProps<{ device: Device }>()
const router = useRouter()
const fleet = useFleet()
const admin = useSession().may('admin')
const spares = computed(() =>
  fleet.devices
    .filter((d) => d.spare && d.name !== props.device.name && d.dialect === props.device.dialect && !d.member)
    .map((d) => ({ value: d.name, label: d.name + (d.state === 'in sync' ? '' : ', ' + d.state) })),
)
const on = ref('')
watch(spares, (all) => (on.value ||= all.length === 1 ? all[0].value : ''), { immediate: true })
const preview = ref<Preview>()
const meant = ref(false)
watch(on, () => (preview.value = undefined))
const { busy, trouble, attempt } = useAttempt()
const key = once()
const send = () =>
  attempt(async () => {
    if (!preview.value) {
      const asked = await post<Job>('/previews', { ref: props.device.name, to: on.value }, { 'Idempotency-Key': once() })
      const j = await ended(asked.id)
      if (!j.preview) throw new Error('Nothing was sent: ' + j.summary)
      preview.value = await get<Preview>('/previews/' + encodeURIComponent(j.preview))
      return
    }
    const j = await post<Job>('/restore-tests', { ref: props.device.name, on: on.value }, { 'Idempotency-Key': key })
    void router.push('/jobs/' + j.id)
  })
const nothing = computed(() => preview.value && !preview.value.steps.length)
</script>

<template>
  <p v-if="!spares.length" class="text-faded">
    A restore test replaces for a while what runs on a spare of the family, a unit that nobody needs. None is known here.
    <template v-if="admin">A device is marked as one where its entry is changed.</template>
  </p>
  <AppForm
    v-else
    :busy="busy"
    :trouble="trouble"
    :deed="preview ? 'Make a restore test' : 'See what it takes'"
    :unable="!on || (!!preview && (!meant || nothing))"
    @send="send"
  >
    <FormField v-model="on" label="On the spare" name="restore-test-on" type="select" :options="spares" />
    <template v-if="preview">
      <p v-if="nothing">{{ on }} runs {{ preview.target }} already, so nothing would be proved.</p>
      <template v-else>
        <p class="text-gone-ink">
          {{ preview.lines }} {{ preview.lines === 1 ? 'line goes' : 'lines go' }} to {{ on }}. For a while it runs {{ preview.target }},
          with its names and addresses; then what ran there before is put back.
        </p>
        <StepList :preview="preview" />
        <MeantField v-model="meant" :name="on" />
      </template>
    </template>
  </AppForm>
</template>
