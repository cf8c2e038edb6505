import type { Job, Schemas, Version } from '../api/call'

// The geometry of the timeline: time runs left to right, each version is a block as
// long as it was in force and as tall as its change was large.
export interface Block {
  first: Version
  last: Version // another one where several are too narrow to be told apart
  count: number
  x: number
  width: number
  seen: number // the part of the width in which it is known to have run
  tall: number
  look: string
}
export interface Mark {
  x: number
  sign: string
  look: string
  label: string
  to?: string
}
export interface View {
  from: number
  to: number
}

export const HEIGHT = 70
const time = (t: string) => new Date(t).getTime()

// How a block looks by the reason its version was pulled for; each has a word beside it.
export const looks: Record<string, { ink: string; word: string }> = {
  'first pull': { ink: 'text-ink', word: 'first pull' },
  'by hand': { ink: 'text-teal', word: 'pulled by hand' },
  'before a push': { ink: 'text-gone-ink', word: 'before a push' },
  'after a push': { ink: 'text-violet', word: 'after a push' },
  excluded: { ink: 'text-alarm', word: 'excluded' },
}
export const lookOf = (v: Version) => (v.excluded ? 'excluded' : looks[v.reason] ? v.reason : 'by hand')

// blocks lays out what is in view. Those narrower than a few pixels are drawn as one.
export function blocks(versions: Version[], view: View, width: number, now: number): Block[] {
  const vs = [...versions].sort((a, b) => a.number - b.number)
  const px = width / (view.to - view.from)
  const most = Math.max(1, ...vs.map((v) => Math.log1p(v.added + v.removed)))
  const out: Block[] = []
  vs.forEach((v, i) => {
    const from = time(v.taken_at)
    const until = i + 1 < vs.length ? time(vs[i + 1].taken_at) : now
    if (until < view.from || from > view.to) return
    const left = Math.max(from, view.from)
    const x = (left - view.from) * px
    const w = (Math.min(until, view.to) - left) * px
    const seen = Math.min(Math.max(time(v.seen_until), left), until)
    const tall = v.number === 1 ? 26 : 22 + (HEIGHT - 22) * (Math.log1p(v.added + v.removed) / most)
    const before = out.at(-1)
    if (w < 4 && before && before.width < 4 && x - before.x < 4) {
      before.last = v
      before.count++
      before.tall = Math.max(before.tall, tall)
      return
    }
    out.push({ first: v, last: v, count: 1, x, width: Math.max(w - 1, 2), seen: Math.max((seen - left) * px, 2), tall, look: lookOf(v) })
  })
  return out
}

const signs: Record<string, { sign: string; look: string }> = {
  verified: { sign: '▲', look: 'text-violet' },
  unsaved: { sign: '△', look: 'text-gone-ink' },
  differs: { sign: '◆', look: 'text-gone-ink' },
  undone: { sign: '↶', look: 'text-gone-ink' },
  unknown: { sign: '?', look: 'text-alarm' },
  failed: { sign: '✕', look: 'text-alarm' },
  refused: { sign: '✕', look: 'text-alarm' },
}

// marks are what happened to the device besides: pushes, undos, failures, swaps and when
// it was first reached.
export function marks(jobs: Job[], swaps: Schemas['Swap'][], since: string | undefined, view: View, width: number): Mark[] {
  const px = width / (view.to - view.from)
  const out: Mark[] = []
  const add = (at: string, m: Omit<Mark, 'x'>) => {
    const x = (time(at) - view.from) * px
    if (x >= 0 && x <= width) out.push({ ...m, x })
  }
  if (since) add(since, { sign: '☆', look: 'text-ink', label: 'first contact' })
  for (const s of swaps)
    add(s.at, { sign: '⇄', look: 'text-violet', label: `swapped for serial ${s.new_serial} by ${s.actor}`, to: '/jobs/' + s.job })
  for (const j of jobs) {
    const sign = signs[j.outcome ?? '']
    if (!j.ended_at || !sign || (j.kind !== 'push' && !['failed', 'refused'].includes(j.outcome ?? ''))) continue
    add(j.ended_at, { ...sign, label: `${j.kind} by ${j.actor}: ${j.outcome}; ${j.summary ?? ''}`, to: '/jobs/' + j.id })
  }
  // Those that would lie on each other are one: the first is shown.
  out.sort((a, b) => a.x - b.x)
  return out.filter((m, i) => i === 0 || m.x - out[i - 1].x > 5 || m.sign !== out[i - 1].sign)
}

// names are those of versions, as far as they do not run into each other.
export function names(bs: Block[], width: number) {
  const out: { x: number; text: string }[] = []
  let free = 0
  for (const b of bs) {
    const text = b.last.name ?? b.first.name
    if (!text) continue
    const x = Math.min(b.x, width - text.length * 6.6)
    if (x < free) continue
    out.push({ x, text })
    free = x + text.length * 6.6 + 8
  }
  return out
}
