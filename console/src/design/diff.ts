import type { Diff } from '../api/call'

// One side of a line that is compared.
export interface Half {
  op: 'same' | 'add' | 'remove' | 'none'
  text: string
  n?: number
  marks?: number[][]
}
// A row of a comparison: unified it has one half, side by side two.
export interface Row {
  fold?: string // unchanged lines that are left out, in words
  halves: Half[]
  from?: number
  to?: number
  block: string
  change: number // which run of changes it belongs to, from 1; 0: none
  first: boolean // of its run
}

// rowsOf lays a comparison out in rows.
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
        const half: Half = { op: 'same', text: l.text, n: l.from }
        const halves = beside ? [half, { ...half, n: l.to }] : [half]
        out.push({ halves, from: l.from, to: l.to, block, change: 0, first: false })
        continue
      }
      const gone: Half[] = []
      const come: Half[] = []
      for (; i < h.lines.length && h.lines[i].op !== 'same'; i++) {
        const l = h.lines[i]
        if (l.op === 'remove') gone.push({ op: 'remove', text: l.text, n: l.from, marks: l.marks })
        else come.push({ op: 'add', text: l.text, n: l.to, marks: l.marks })
      }
      change++
      const none: Half = { op: 'none', text: '' }
      const run = beside
        ? Array.from({ length: Math.max(gone.length, come.length) }, (_, k) => [gone[k] ?? none, come[k] ?? none])
        : [...gone, ...come].map((x) => [x])
      run.forEach((halves, k) => {
        const from = halves.find((x) => x.op === 'remove')?.n
        const to = halves.find((x) => x.op === 'add')?.n
        out.push({ halves, from, to, block, change, first: k === 0 })
      })
    }
  }
  return out
}

const fold = (n: number, block: string): Row => ({
  fold: `${n} unchanged ${n === 1 ? 'line' : 'lines'}`,
  halves: [],
  block,
  change: 0,
  first: false,
})

const enc = new TextEncoder()
const dec = new TextDecoder()

// pieces cuts a line at its marks, which are offsets in UTF-8 bytes.
export function pieces(h: Half): { text: string; marked: boolean }[] {
  if (!h.marks?.length) return [{ text: h.text, marked: false }]
  const bytes = enc.encode(h.text)
  const cut = (a: number, b: number) => dec.decode(bytes.slice(a, b))
  const out = []
  let at = 0
  for (const [a, b] of h.marks) {
    if (a > at) out.push({ text: cut(at, a), marked: false })
    out.push({ text: cut(a, b), marked: true })
    at = b
  }
  if (at < bytes.length) out.push({ text: cut(at, bytes.length), marked: false })
  return out
}
