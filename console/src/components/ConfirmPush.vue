<script setup lang="ts">
import { onBeforeUnmount, ref, computed } from 'vue'
import { post, type Job } from '../api/call'
import ProblemNote from './ProblemNote.vue'

// A push that waits for a decision: how long it still waits, and the decision.
const props = defineProps<{ job: Job; may: boolean }>()
const now = ref(Date.now())
const tick = setInterval(() => (now.value = Date.now()), 250)
onBeforeUnmount(() => clearInterval(tick))
const left = computed(() => Math.max(0, Math.ceil((new Date(props.job.due!).getTime() - now.value) / 1000)))
const clock = computed(() => {
  const s = left.value
  const two = (n: number) => String(n).padStart(2, '0')
  return s >= 3600 ? `${Math.floor(s / 3600)}:${two(Math.floor(s / 60) % 60)}:${two(s % 60)}` : `${Math.floor(s / 60)}:${two(s % 60)}`
})
const busy = ref(false)
const failed = ref<Error>()

async function decide(what: 'confirm' | 'undo') {
  busy.value = true
  failed.value = undefined
  try {
    await post('/jobs/' + encodeURIComponent(props.job.id) + '/' + what)
  } catch (e) {
    failed.value = e as Error
    busy.value = false
  }
}
</script>

<template>
  <section class="card mb-4 flex flex-wrap items-center gap-x-6 gap-y-3 border-2 border-violet p-4" aria-label="This push waits for a decision">
    <div>
      <p class="text-faded">goes back by itself in</p>
      <p class="font-mono text-3xl font-semibold tabular-nums" role="timer">{{ clock }}</p>
    </div>
    <div class="min-w-48 grow">
      <p class="text-base font-semibold">Is everything as it should be?</p>
      <p class="text-faded">Look at the checks, the lines that differ and the people at the site before you keep it.</p>
    </div>
    <div v-if="may" class="flex gap-3">
      <button type="button" class="button-main" :disabled="busy || left === 0" @click="decide('confirm')">Keep it</button>
      <button type="button" class="button" :disabled="busy || left === 0" @click="decide('undo')">Undo it now</button>
    </div>
    <ProblemNote :error="failed" class="w-full" />
  </section>
</template>
