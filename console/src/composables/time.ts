import { useNow } from '@vueuse/core'
import { computed } from 'vue'
import { serverNow } from '../api/clock'

const day = new Intl.DateTimeFormat('sv-SE', { year: 'numeric', month: '2-digit', day: '2-digit', hour: '2-digit', minute: '2-digit' })

// The zone times are shown in, always said beside them.
export const zone = Intl.DateTimeFormat().resolvedOptions().timeZone

// now goes on by itself, so that what was a minute ago does not stay so.
const clock = useNow({ interval: 15_000 })
export const now = computed(() => serverNow(clock.value.getTime()))

export const when = (t?: string) => (t ? day.format(new Date(t)) : '')

export function ago(t?: string): string {
  if (!t) return 'never'
  const s = (Math.max(now.value, serverNow()) - new Date(t).getTime()) / 1000
  if (s < 60) return 'just now'
  if (s < 3600) return `${Math.floor(s / 60)} min ago`
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ago`
  return `${Math.floor(s / 86400)} d ago`
}

// useLeft counts down to a time, in seconds, by the service's clock; undefined: there is none.
export function useLeft(due: () => string | undefined) {
  const tick = useNow({ interval: 250 })
  return computed(() => {
    const at = due()
    return at ? Math.max(0, Math.ceil((new Date(at).getTime() - serverNow(tick.value.getTime())) / 1000)) : undefined
  })
}

// countdown is how long that is, as a clock shows it.
export function countdown(s = 0): string {
  const two = (n: number) => String(n).padStart(2, '0')
  return s >= 3600 ? `${Math.floor(s / 3600)}:${two(Math.floor(s / 60) % 60)}:${two(s % 60)}` : `${Math.floor(s / 60)}:${two(s % 60)}`
}

// span is so many milliseconds, in words.
export function span(ms: number): string {
  const s = Math.max(0, Math.round(ms / 1000))
  if (s < 60) return `${s} s`
  if (s < 3600) return `${Math.floor(s / 60)} min ${s % 60} s`
  return `${Math.floor(s / 3600)} h ${Math.floor(s / 60) % 60} min`
}
