import { computed, ref, shallowRef } from 'vue'
import { post, type Job, type Page } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { useTouched } from '../live'

// usePulls pulls many devices and follows how far that is.
export function usePulls() {
  const { busy, trouble, attempt } = useAttempt()
  const jobs = shallowRef(new Map<string, Job>())
  const ended = ref(new Map<string, string>()) // by job, its outcome
  useTouched((touched) => {
    for (const t of touched)
      if (t.topic === 'job' && t.id && t.state === 'ended' && jobs.value.has(t.id)) ended.value.set(t.id, t.outcome ?? '')
  })
  const done = computed(() => ended.value.size)
  const failed = computed(() => [...ended.value].filter(([, o]) => o !== 'done').map(([id]) => jobs.value.get(id)!.device))
  const pull = (selector: string[]) =>
    attempt(async () => {
      ended.value = new Map()
      const page = await post<Page<Job>>('/pulls', { selector }, { 'Idempotency-Key': crypto.randomUUID() })
      jobs.value = new Map(page.items.map((j) => [j.id, j]))
    })
  const of = computed(() => jobs.value.size)
  const running = computed(() => busy.value || done.value < of.value)
  return { pull, running, done, of, failed, trouble }
}
