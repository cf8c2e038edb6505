<script setup lang="ts">
import { computed, ref } from 'vue'
import { post, query, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { countdown, useLeft } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import { useKinds } from './kinds'
import ProblemNote from '../design/ProblemNote.vue'

// A job that waits for a decision: for what, how long it still waits, and the
// decision.
const props = defineProps<{ job: Job; may: boolean }>()
const left = useLeft(() => props.job.due)
const clock = computed(() => countdown(left.value))
// How what the kinds of this program wait for is asked here; of others the service
// says what they wait for, and what answers that.
const asked: Record<string, { until: string; asks: string; more: string; says: Record<string, string> }> = {
  confirm: {
    until: 'goes back by itself in',
    asks: 'Is everything as it should be?',
    more: 'Look at the checks, the lines that differ and the people at the site before you keep it.',
    says: { confirm: 'Keep it', undo: 'Undo it now' },
  },
  restart: {
    until: '',
    asks: 'Startup is written. May the device be restarted?',
    more: 'Whatever hangs on it is away meanwhile. Before the restart startup is read once more.',
    says: { restart: 'Restart it now', undo: 'Put startup back' },
  },
  approval: {
    until: 'lapses in',
    asks: 'Shall this push be done?',
    more: 'Look at its preview below first. Whoever planned it cannot approve it where a second person is asked for.',
    says: { approve: 'Approve it', decline: 'Decline it' },
  },
  agreement: {
    until: 'lapses in',
    asks: 'Shall these be the baselines?',
    more: 'Drift is judged against them from then on. Whoever asked for it cannot approve it.',
    says: { approve: 'Approve them', decline: 'Decline them' },
  },
  start: {
    until: 'begins in',
    asks: 'It is planned, and begins by itself.',
    more: 'It is previewed again then; if something else would be sent, it asks before anything is.',
    says: { decline: 'Call it off' },
  },
}
const { data: known } = useKinds()
const kind = computed(() => {
  const own = asked[props.job.awaits ?? '']
  if (own) return own
  const wait = known.value?.find((k) => k.name === props.job.kind)?.awaits.find((w) => w.for === props.job.awaits)
  return {
    until: 'goes on by itself in',
    asks: `It waits for ${wait?.means ?? props.job.awaits}.`,
    more: '',
    says: Object.fromEntries((wait?.words ?? []).map((w) => [w.say, w.does || w.say])),
  }
})
const { busy, trouble, attempt } = useAttempt()
const decided = ref(false)
const decide = async (what: string) =>
  (decided.value = await attempt(() =>
    post(
      '/jobs/' +
        encodeURIComponent(props.job.id) +
        '/' +
        what +
        query({ preview: what === 'approve' ? props.job.plan?.preview : undefined }),
    ),
  ))
</script>

<template>
  <section
    class="sticky bottom-2 z-20 card flex flex-wrap items-center gap-x-6 gap-y-3 border-2 border-violet p-3 sm:top-14 sm:bottom-auto sm:p-4"
    aria-label="This job waits for a decision"
  >
    <div v-if="left !== undefined">
      <p class="text-faded">{{ kind.until }}</p>
      <p class="font-mono text-3xl font-semibold tabular-nums" role="timer">{{ clock }}</p>
    </div>
    <div class="min-w-48 grow">
      <p class="text-base font-semibold">{{ kind.asks }}</p>
      <p class="text-faded">{{ kind.more }}</p>
    </div>
    <div v-if="may" class="flex flex-wrap gap-3">
      <AppButton
        v-for="(words, what) in kind.says"
        :key="what"
        :main="!['undo', 'decline'].includes(String(what))"
        :busy="busy || decided || left === 0"
        @click="decide(String(what))"
        >{{ words }}</AppButton
      >
    </div>
    <ProblemNote :error="trouble" class="w-full" />
  </section>
</template>
