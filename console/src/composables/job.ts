import { onBeforeUnmount, ref, watch, type Ref } from 'vue'
import { ApiError, get, type Entry, type Job } from '../api/call'

// useJob follows a job live: its state and its log, from the beginning. A
// connection that breaks is taken up where it left off by the browser.
export function useJob(id: Ref<string | undefined>) {
  const job = ref<Job>()
  const log = ref<Entry[]>([])
  const trouble = ref<Error>()
  let source: EventSource | undefined

  function stop() {
    source?.close()
    source = undefined
  }

  // follow opens the stream. The browser takes a broken one up again by itself;
  // one the service refused (the session ran out, say) is asked for anew, which
  // has somebody sign in again.
  async function follow(now: string) {
    try {
      job.value = await get<Job>(`/jobs/${encodeURIComponent(now)}`)
    } catch (e) {
      trouble.value = e as ApiError
      return
    }
    if (id.value !== now) return
    stop()
    source = new EventSource(`/api/v1/jobs/${encodeURIComponent(now)}/events`)
    source.addEventListener('log', (e) => {
      const entry = JSON.parse(e.data) as Entry
      if (entry.seq > (log.value.at(-1)?.seq ?? 0)) log.value.push(entry)
    })
    source.addEventListener('job', (e) => {
      job.value = JSON.parse(e.data) as Job
      if (job.value.state === 'ended') stop()
    })
    source.addEventListener('error', () => {
      if (source?.readyState === EventSource.CLOSED) setTimeout(() => id.value === now && void follow(now), 1000)
    })
  }

  watch(
    id,
    (now) => {
      stop()
      job.value = undefined
      log.value = []
      trouble.value = undefined
      if (now) void follow(now)
    },
    { immediate: true },
  )
  onBeforeUnmount(stop)
  return { job, log, trouble }
}

// ended waits for a job to end, without its log.
export async function ended(id: string): Promise<Job> {
  for (let wait = 150; ; wait = Math.min(wait * 1.4, 1500)) {
    const j = await get<Job>(`/jobs/${encodeURIComponent(id)}`)
    if (j.state === 'ended') return j
    await new Promise((go) => setTimeout(go, wait))
  }
}
