import type { Diff } from '../api/call'

export type Line = Diff['hunks'][number]['lines'][number]

// A row of a comparison: what stands on its left and on its right, which is the same
// where nothing changed. Unified it has one of them.
export interface Row {
  fold?: string // unchanged lines that are left out, in words
  left?: Line
  right?: Line
  block: string
  change: number // which run of changes it belongs to, from 1; 0: none
  first: boolean // of its run
}

// rowsOf lays a comparison out in rows. It makes one thing a row and no more: of a
// hundred thousand, each more is felt while scrolling.
export function rowsOf(d: Diff, beside: boolean): Row[] {
  const out: Row[] = []
  let at = 1
  let change = 0
  for (const h of d.hunks) {
    const block = h.block ?? ''
    if (h.from > at) out.push(fold(h.from - at, block))
    at = h.from + h.from_lines
    for (let i = 0; i < h.lines.length;) {
      if (h.lines[i].op === 'same') {
        const l = h.lines[i++]
        out.push({ left: l, right: l, block, change: 0, first: false })
        continue
      }
      const gone: Line[] = []
      const come: Line[] = []
      for (; i < h.lines.length && h.lines[i].op !== 'same'; i++) (h.lines[i].op === 'remove' ? gone : come).push(h.lines[i])
      change++
      const n = beside ? Math.max(gone.length, come.length) : gone.length + come.length
      for (let k = 0; k < n; k++) out.push({ left: gone[k], right: come[beside ? k : k - gone.length], block, change, first: k === 0 })
    }
  }
  return out
}

const fold = (n: number, block: string): Row => ({
  fold: `${n} unchanged ${n === 1 ? 'line' : 'lines'}`,
  block,
  change: 0,
  first: false,
})

const enc = new TextEncoder()
const dec = new TextDecoder()

// pieces cuts a line at its marks, which are offsets in UTF-8 bytes.
export function pieces(l: Line): { text: string; marked: boolean }[] {
  if (!l.marks?.length) return [{ text: l.text, marked: false }]
  const bytes = enc.encode(l.text)
  const cut = (a: number, b: number) => dec.decode(bytes.slice(a, b))
  const out = []
  let at = 0
  for (const [a, b] of l.marks) {
    if (a > at) out.push({ text: cut(at, a), marked: false })
    out.push({ text: cut(a, b), marked: true })
    at = b
  }
  if (at < bytes.length) out.push({ text: cut(at, bytes.length), marked: false })
  return out
}
