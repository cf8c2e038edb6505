import type { Version } from '../api/call'

// The version that another one's lines are counted from: the newest before it that counts.
export const countedFrom = (all: Version[], v: Version) =>
  all.reduce<Version | undefined>((best, x) => (x.number < v.number && !x.excluded && x.number > (best?.number ?? 0) ? x : best), undefined)
