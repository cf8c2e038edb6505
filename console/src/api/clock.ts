// The service's clock. Times in answers are of it, so what is left of a time is counted by it and not by the
// browser's, which may be wrong by minutes.
let offset: number | undefined // milliseconds it is ahead

// heard takes note of an answer's Date (RFC 9110 §6.6.1), which is of whole seconds. sent is when it was asked for.
export function heard(date: string | null, sent: number) {
  const at = date ? Date.parse(date) : NaN
  const got = Date.now()
  if (Number.isNaN(at) || got - sent > 5000) return
  const now = at + 500 - (sent + got) / 2
  if (offset === undefined || Math.abs(now - offset) > 1500) offset = Math.abs(now) < 1500 ? 0 : now
}

// serverNow is the service's time when the browser's is local, in milliseconds since 1970.
export const serverNow = (local = Date.now()) => local + (offset ?? 0)
