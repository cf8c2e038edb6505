// bytes is a size as people read it.
export function bytes(n: number): string {
  if (n < 1e3) return n + ' B'
  if (n < 1e6) return Math.round(n / 1e3) + ' kB'
  return n < 1e9 ? (n / 1e6).toFixed(1) + ' MB' : (n / 1e9).toFixed(2) + ' GB'
}
