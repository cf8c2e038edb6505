import type { Schemas } from '../api/call'

// letGo says what differs between two texts and counts for nothing, by the dialect's rules.
export function letGo(gone?: Schemas['LetGo']): string[] {
  if (!gone) return []
  const lines = (n: number, what: string) => (n ? [`${n} ${n === 1 ? 'line' : 'lines'} ${what}`] : [])
  return [
    ...lines(gone.order, 'in another place'),
    ...lines(gone.blanks, 'with other blanks'),
    ...lines(gone.defaults, 'at the default'),
    ...lines(gone.written, 'written otherwise'),
  ]
}
