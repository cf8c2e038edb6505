import { useIntervalFn } from '@vueuse/core'
import { computed, ref, shallowRef } from 'vue'
import { get, post, type Job, type Page } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { isAll, useTouched } from '../live'
import { once } from '../composables/once'

// usePulls pulls many devices and follows how far that is.
export function usePulls() {
  const { busy, trouble, attempt } = useAttempt()
  const jobs = shallowRef(new Map<string, Job>())
  const ended = ref(new Map<string, string>()) // by job, its outcome
  const mark = (id: string, outcome = '') => jobs.value.has(id) && void ended.value.set(id, outcome)
  let early = new Map<string, string>() // what ended before the answer that names it came
  useTouched((touched) => {
    for (const t of touched) {
      if (isAll(t)) void missed()
      if (t.topic !== 'job' || !t.id || t.state !== 'ended') continue
      if (busy.value) early.set(t.id, t.outcome ?? '')
      mark(t.id, t.outcome)
    }
  })
  // A hint can be lost: those that seem to run are asked for by their page, a few at a time.
  async function missed() {
    const open = [...jobs.value.keys()].filter((id) => !ended.value.has(id)).slice(0, 50)
    for (const id of open) {
      const j = await get<Job>('/jobs/' + encodeURIComponent(id)).catch(() => undefined)
      if (j?.state === 'ended') mark(id, j.outcome)
    }
  }
  useIntervalFn(() => running.value && !busy.value && void missed(), 10_000)
  const done = computed(() => ended.value.size)
  const failed = computed(() => [...ended.value].filter(([, o]) => o !== 'done').map(([id]) => jobs.value.get(id)!.device))
  const pull = (selector: string[]) =>
    attempt(async () => {
      ended.value = new Map()
      early = new Map()
      const page = await post<Page<Job>>('/pulls', { selector }, { 'Idempotency-Key': once() })
      jobs.value = new Map(page.items.map((j) => [j.id, j]))
      for (const [id, o] of early) mark(id, o)
    })
  const of = computed(() => jobs.value.size)
  const running = computed(() => busy.value || done.value < of.value)
  return { pull, running, done, of, failed, trouble }
}
