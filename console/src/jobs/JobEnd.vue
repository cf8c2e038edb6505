<script setup lang="ts">
import { computed } from 'vue'
import type { Job } from '../api/call'
import AppButton from '../design/AppButton.vue'
import FactList from '../design/FactList.vue'
import StateMark from '../design/StateMark.vue'
import { useSession } from '../session'

// What a job has come to, in a sentence, and what can be done next.
const props = defineProps<{ job: Job }>()
const session = useSession()
const operator = session.may('operator')
// A restore whose pushes wait to be confirmed is not over, whatever it ended as.
const waits = computed(() => props.job.restore?.rows.some((r) => r.outcome === 'waiting'))
const over = computed(() => props.job.state === 'ended' && !waits.value)
const good = computed(() => !waits.value && ['verified', 'done'].includes(props.job.outcome ?? ''))
const meaning: Record<string, string> = {
  verified: 'Verified: the device was pulled again and runs what was asked for.',
  unsaved: 'It runs what was asked for, but startup does not hold it: a restart would lose it.',
  differs: 'The device was pulled again, and these lines still differ.',
  undone: 'What was applied was taken back; the device runs what it ran before.',
  unknown: 'What the device runs is not known.',
}
const refused = computed(() => props.job.push?.refused)
const facts = computed(() => {
  const r = refused.value!
  return [
    { word: 'refused line', says: `${r.line}${r.block ? ', in ' + r.block : ''}: ${r.text}`, mono: true },
    { word: 'the device said', says: r.answer, mono: true },
  ]
})
</script>

<template>
  <div class="card grid gap-2 border-l-4 p-3" :class="good ? 'border-l-teal' : over ? 'border-l-alarm' : 'border-l-violet'" role="status">
    <p class="text-base font-semibold"><StateMark :state="waits ? 'waiting' : job.outcome || job.state" />: {{ job.summary }}</p>
    <p v-if="job.kind === 'push' && meaning[job.outcome ?? '']">{{ meaning[job.outcome ?? ''] }}</p>
    <FactList v-if="refused" bare :facts="facts" />
    <p v-if="job.push?.before && over" class="text-faded">
      What ran before is kept as <RouterLink :to="'/version?ref=' + job.push.before">{{ job.push.before }}</RouterLink><template
        v-if="job.push.after"
        >; {{ job.outcome === 'undone' ? 'it runs again, and what ran meanwhile is kept as' : 'what runs now as' }}
        <RouterLink :to="'/version?ref=' + job.push.after">{{ job.push.after }}</RouterLink></template
      >.
    </p>
    <p class="flex flex-wrap gap-2 empty:hidden">
      <AppButton v-if="refused && operator && session.me?.secrets" :to="'/edit?ref=' + job.push!.target.split(',')[0]"
        >Edit the version, to go on without that line</AppButton
      >
      <AppButton v-if="job.preview" :to="'/push/' + job.preview">Look at the preview</AppButton>
    </p>
  </div>
</template>
