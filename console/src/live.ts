import { useQueryCache } from '@pinia/colada'
import { onScopeDispose, ref } from 'vue'
import type { Touched } from './api/call'

// What is written on the server, by anybody, is told here within a moment. One stream
// serves all tabs of a browser: the tab that holds the lock listens, the others are
// told by it. Where a browser offers no locks, each tab listens by itself.
type Told = (touched: Touched[]) => unknown
const told = new Set<Told>()
export const connected = ref(true)
export const away = ref(false) // the service's database is

const tell = (touched: Touched[]) => {
  for (const t of touched) if (t.topic === 'database') away.value = t.state === 'away'
  for (const f of told) f(touched)
}

// Everything may have changed: whoever was not told asks again.
const ALL: Touched[] = [{ topic: 'all' as never }]

let begun = false
export function listen() {
  if (begun) return
  begun = true
  const channel = 'BroadcastChannel' in window ? new BroadcastChannel('magpie') : undefined
  // Other tabs are told what this one hears: what was touched, and whether it hears anything.
  channel?.addEventListener('message', (e) => {
    const said = e.data as { touched?: Touched[]; connected: boolean }
    connected.value = said.connected
    if (said.touched) tell(said.touched)
  })
  const pass = (touched?: Touched[]) => {
    channel?.postMessage({ touched, connected: connected.value })
    if (touched) tell(touched)
  }
  const began = Date.now()
  const open = () =>
    new Promise<void>(() => {
      let times = Date.now() - began > 1000 ? 1 : 0 // another tab listened until now
      const follow = () => {
        const source = new EventSource('/api/v1/events')
        source.addEventListener('open', () => {
          connected.value = true
          // Who comes is told what was written shortly before. Longer ago, something may have been missed, by every tab.
          if (times++ || Date.now() - began > 5000) pass(ALL)
        })
        source.addEventListener('touched', (e) => {
          pass(JSON.parse(e.data) as Touched[])
        })
        source.addEventListener('error', () => {
          connected.value = false
          pass()
          if (source.readyState === EventSource.CLOSED) setTimeout(follow, 2000)
        })
      }
      follow()
    })
  if (channel && navigator.locks) void navigator.locks.request('magpie events', open)
  else void open()
}

// useTouched has a function called with what was written, as long as the page is there.
export function useTouched(f: Told) {
  told.add(f)
  onScopeDispose(() => told.delete(f))
}

// touched is there once something of the kind was written, or so many milliseconds have
// passed, should the hint be lost.
export function touched(is: (t: Touched) => boolean, within: number): Promise<void> {
  return new Promise((go) => {
    const f: Told = (all) => all.some((t) => isAll(t) || is(t)) && end()
    const end = () => (told.delete(f), clearTimeout(late), go())
    const late = setTimeout(end, within)
    told.add(f)
  })
}

export const isAll = (t: Touched) => (t.topic as string) === 'all'

// useFresh has what is shown asked for again when it was written. The first word of a
// query's key is the topic it belongs to: device, part, job, or deed for all else.
export function useFresh() {
  const cache = useQueryCache()
  let due: Map<string, unknown[]> | undefined
  useTouched((touched) => {
    if (!due) {
      const now = (due = new Map())
      setTimeout(() => {
        due = undefined
        // What could not be asked for says so itself, where it is shown.
        for (const key of now.values()) cache.invalidateQueries({ key: key as never }).catch(() => undefined)
      }, 60)
    }
    const add = (...key: unknown[]) => due!.set(key.join(' '), key)
    for (const t of touched) {
      if (isAll(t) || t.topic === 'database') for (const topic of ['device', 'part', 'job', 'jobs', 'changes', 'deed']) add(topic)
      else if (t.topic === 'device') add('device', t.name)
      else if (t.topic === 'part') (add('part', t.device), add('changes'))
      else if (t.topic === 'job') (add('job', t.id), add('jobs'))
      else if (t.topic === 'deed') add('deed')
    }
  })
}
