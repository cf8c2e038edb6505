import type { Schemas } from '../api/call'

export type Item = Schemas['AgendaItem']
export const HOUR = 3600_000

// Hour is what happens within an hour: how many devices are looked after.
export interface Hour {
  at: number
  done: number
  bad: number
  due: number
  left: number // times that nothing is done
}

// tide lays a day's items out by hours; one that is spread is shared out among those that it
// is spread over.
export function tide(items: Item[], from: number, hours = 24): Hour[] {
  const out = Array.from({ length: hours }, (_, i) => ({ at: from + i * HOUR, done: 0, bad: 0, due: 0, left: 0 }))
  for (const i of items) {
    const begin = new Date(i.at).getTime()
    const end = begin + Math.max(1, i.spread_s * 1000)
    for (const h of out) {
      const within = Math.min(end, h.at + HOUR) - Math.max(begin, h.at)
      if (within <= 0) continue
      if (i.state === 'left out') h.left++
      else {
        const part = within / (end - begin)
        const n = Math.max(1, i.devices) * part
        const bad = Math.min(n, i.not_well * part)
        if (i.future || i.state === 'due') h.due += n
        else {
          h.done += n - bad
          h.bad += bad
        }
      }
    }
  }
  return out
}

// Entry is a line of the agenda: one time, or many of one schedule.
export interface Entry {
  item: Item
  times: number
}
const MANY = 4

// entries puts together what comes often: the times of one schedule that went alike.
export function entries(items: Item[]): Entry[] {
  const all = new Map<string, Item[]>()
  for (const i of items) {
    const key = `${i.schedule} ${i.future} ${i.state}`
    all.get(key)?.push(i) ?? all.set(key, [i])
  }
  const out: Entry[] = []
  for (const of of all.values()) {
    if (of.length > MANY) out.push({ item: of[0].future ? of[0] : of[of.length - 1], times: of.length })
    else out.push(...of.map((item) => ({ item, times: 1 })))
  }
  return out.sort((a, b) => a.item.at.localeCompare(b.item.at))
}
