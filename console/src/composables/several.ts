// several is a selector as a list has it: its first words, and how many more there are.
export function several(words: string[]): string {
  let out = ''
  for (const [i, w] of words.entries()) {
    if (i && out.length + 1 + w.length > 60) return `${out} and ${words.length - i} more`
    out += (i ? ' ' : '') + w
  }
  return out
}
