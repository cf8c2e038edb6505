import { onScopeDispose, ref, watch, type Ref } from 'vue'
import { get, query, type Entry, type Job, type Page } from '../api/call'
import { isAll, touched, useTouched } from '../live'

// useJob follows a job: its state and its log, from the beginning, as they are written.
export function useJob(id: Ref<string | undefined>) {
  const job = ref<Job>()
  const log = ref<Entry[]>([])
  const trouble = ref<Error>()
  let asking = false
  let again = false

  // What is new is asked for; one question at a time, and another if there was more.
  async function look() {
    const now = id.value
    if (!now || asking) return void (again = true)
    asking = true
    try {
      // The job is read before its log: when it has ended, the log is whole.
      const j = await get<Job>(`/jobs/${encodeURIComponent(now)}`)
      for (let more = true; more;) {
        const after = log.value.at(-1)?.seq ?? 0
        const page = await get<Page<Entry>>(`/jobs/${encodeURIComponent(now)}/log` + query({ after }))
        if (id.value !== now) break
        log.value.push(...page.items.filter((e) => e.seq > after))
        more = !!page.next && page.items.length > 0
      }
      if (id.value === now) job.value = j
      trouble.value = undefined
    } catch (e) {
      trouble.value = e as Error
    }
    asking = false
    if (again) {
      again = false
      void look()
    }
  }
  // Of a restore its pushes count too: they go on after it has ended.
  const concerns = (which?: string) => !!which && (which === id.value || !!job.value?.restore?.rows.some((r) => r.job === which))
  useTouched((all) => {
    if (all.some((t) => isAll(t) || ((t.topic === 'job' || t.topic === 'log') && concerns(t.id)))) void look()
  })
  // Should a hint be lost, what goes on is looked at now and then all the same.
  const tick = setInterval(() => id.value && job.value?.state !== 'ended' && void look(), 5000)
  onScopeDispose(() => clearInterval(tick))
  watch(
    id,
    () => {
      job.value = undefined
      log.value = []
      trouble.value = undefined
      void look()
    },
    { immediate: true },
  )
  return { job, log, trouble, look }
}

// ended waits for a job to end, without its log.
export async function ended(id: string): Promise<Job> {
  for (;;) {
    const more = touched((t) => t.topic === 'job' && t.id === id, 3000)
    const j = await get<Job>(`/jobs/${encodeURIComponent(id)}`)
    if (j.state === 'ended') return j
    await more
  }
}
