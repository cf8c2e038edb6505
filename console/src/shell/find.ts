import { useLocalStorage } from '@vueuse/core'
import { query, type Device, type Job, type Page, get, versionsOf } from '../api/call'
import { when } from '../composables/time'
import { places, settings } from './places'

// Found is something the palette offers: where it is, or what it does.
export interface Found {
  kind: string
  label: string
  more?: string
  to?: string
  run?: () => void
}

// How well letters fit a name: all at its start best, then at a word's start, then
// anywhere, then one by one in their order. 0: not at all.
export function fits(letters: string, name: string): number {
  const n = name.toLowerCase()
  const at = n.indexOf(letters)
  if (at === 0) return 4
  if (at > 0) return /[^a-z0-9]/.test(n[at - 1]) ? 3 : 2
  let i = 0
  for (const c of n) if (c === letters[i]) i++
  return letters.length > 1 && i === letters.length ? 1 : 0
}

const pages = (role: string): Found[] => [
  ...places.map((p) => ({ kind: 'page', label: p.label, to: p.to })),
  ...settings
    .filter((s) => !s.admin || role === 'admin')
    .map((s) => ({ kind: 'page', label: s.label, more: 'settings', to: '/settings?tab=' + s.name })),
]

const deedsOf = (d: Device, role: string): Found[] =>
  role === 'reader'
    ? []
    : [
        { kind: 'deed', label: `put a version of ${d.name} back`, to: `/push?to=${d.name}` },
        { kind: 'deed', label: `compare ${d.name} with what runs there now`, to: `/compare?from=${d.name}@latest&to=${d.name}@live` },
      ]

// best are the devices, pages and deeds that letters may mean, best first.
export function best(words: string, devices: Device[], role: string, keys: Found[]): Found[] {
  const w = words.trim().toLowerCase()
  const scored: [number, Found][] = []
  for (const d of devices) {
    const score = Math.max(fits(w, d.name) * 2, fits(w, d.address), fits(w, d.serial ?? '') && 2)
    if (score) scored.push([score + 0.5, { kind: 'device', label: d.name, more: `${d.state}, ${d.site}`, to: '/devices/' + d.name }])
    if (score >= 8 && w.length > 3) for (const deed of deedsOf(d, role)) scored.push([score - 2, deed])
  }
  for (const f of [...pages(role), ...keys]) {
    const score = fits(w, f.label) * 2
    if (score > 2) scored.push([score, f])
  }
  return scored
    .sort((a, b) => b[0] - a[0] || a[1].label.length - b[1].label.length)
    .slice(0, 30)
    .map(([, f]) => f)
}

// seek asks for what is not here: the versions of a device that is named with an @, and
// jobs by their number.
export async function seek(words: string, byName: Map<string, Device>): Promise<Found[]> {
  const w = words.trim()
  const [name, which] = w.split('@')
  if (which !== undefined && byName.has(name)) {
    const all = await versionsOf(name).catch(() => [])
    return all
      .filter((v) => !which || String(v.number).startsWith(which) || v.name?.toLowerCase().includes(which.toLowerCase()))
      .slice(0, 20)
      .map((v) => ({
        kind: 'version',
        label: v.ref,
        more: [v.name, when(v.taken_at), v.author].filter(Boolean).join(', '),
        to: '/version?ref=' + v.ref,
      }))
  }
  if (w.length < 3) return []
  const jobs = await get<Page<Job>>('/jobs' + query({ limit: 200 })).catch(() => ({ items: [] as Job[] }))
  return jobs.items
    .filter((j) => j.id.toLowerCase().startsWith(w.toLowerCase()) || fits(w.toLowerCase(), `${j.kind} ${j.device}`) > 2)
    .slice(0, 8)
    .map((j) => ({
      kind: 'job',
      label: `${j.kind} of ${j.device}`,
      more: `${j.outcome || j.state}, ${when(j.created_at)}`,
      to: '/jobs/' + j.id,
    }))
}

// What somebody went to lately is kept on this machine.
const lately = useLocalStorage<Found[]>('lately', [])
export const recent = () => lately.value
export function remember(f: Found) {
  if (f.to) lately.value = [f, ...lately.value.filter((x) => x.to !== f.to)].slice(0, 12)
}
