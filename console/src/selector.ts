import type { Device } from './api/call'

// Which devices: words as the command line has them (site=skerrinsay state=drifted
// name=quay-*), and plain words, which are looked for in all that a device says of
// itself. Words of one key widen the choice, different keys narrow it.
export const keys = ['name', 'site', 'kind', 'tag', 'dialect', 'state', 'model', 'release', 'spare'] as const
export type Key = (typeof keys)[number]

export interface Choice {
  terms: Map<Key, string[]>
  words: string[]
  wrong: string[] // words of which nothing is known
}

export const dashed = (s: string) => s.replaceAll(' ', '-')

export function valuesOf(d: Device, key: Key): string[] {
  if (key === 'tag') return d.tags
  if (key === 'spare') return [d.spare ? 'yes' : 'no']
  if (key === 'state' || key === 'model' || key === 'release') return [dashed(d[key] ?? '')]
  return [d[key]]
}

export function read(text: string): Choice {
  const c: Choice = { terms: new Map(), words: [], wrong: [] }
  for (const w of text.trim().split(/\s+/).filter(Boolean)) {
    const [key, ...rest] = w.split('=')
    if (!rest.length) {
      if (w !== 'all') c.words.push(w.toLowerCase())
    } else if (!keys.includes(key as Key)) c.wrong.push(w)
    else c.terms.set(key as Key, [...(c.terms.get(key as Key) ?? []), dashed(rest.join('='))])
  }
  return c
}

// pattern is a glob as an expression: * is any text, ? any letter, [a-c] one of some.
const patterns = new Map<string, RegExp>()
function pattern(glob: string): RegExp {
  let p = patterns.get(glob)
  if (!p) {
    const body = glob.replace(/\\(.)|[.+^${}()|]|\*|\?/g, (m, quoted) =>
      quoted ? '\\' + quoted : m === '*' ? '[^/]*' : m === '?' ? '[^/]' : '\\' + m,
    )
    try {
      p = new RegExp(`^(?:${body})$`)
    } catch {
      p = /^\b$/ // no pattern: nothing is like it
    }
    patterns.set(glob, p)
  }
  return p
}

const said = new WeakMap<Device, string>()
function all(d: Device): string {
  let s = said.get(d)
  if (s === undefined) {
    s = [d.name, d.address, d.host, d.model, d.serial, d.release, d.site, d.kind, d.dialect, d.state, d.trouble, ...d.tags]
      .join(' ')
      .toLowerCase()
    said.set(d, s)
  }
  return s
}

// picks tells whether a device is chosen; but leaves one key out of it, as a facet's
// counts have to.
export function picks(c: Choice, d: Device, but?: Key): boolean {
  if (c.wrong.length) return false // what is not understood chooses nothing
  for (const [key, globs] of c.terms) {
    if (key === but) continue
    if (!globs.some((g) => valuesOf(d, key).some((v) => pattern(g).test(v)))) return false
  }
  return c.words.every((w) => all(d).includes(w))
}

// toggle puts a word of a key into a choice, or takes it out.
export function toggle(text: string, key: Key, value: string): string {
  const word = `${key}=${dashed(value)}`
  const words = text.trim().split(/\s+/).filter(Boolean)
  return (words.includes(word) ? words.filter((w) => w !== word) : [...words, word]).join(' ')
}

// selectorOf is what the service is asked for the devices that are chosen: the words
// themselves where it understands them, and otherwise the names.
export function selectorOf(text: string, chosen: Device[]): string[] {
  const c = read(text)
  if (c.words.length || c.wrong.length) return chosen.map((d) => d.name)
  return c.terms.size ? text.trim().split(/\s+/) : ['all']
}
