const day = new Intl.DateTimeFormat('sv-SE', { year: 'numeric', month: '2-digit', day: '2-digit', hour: '2-digit', minute: '2-digit' })

// The zone times are shown in, always said beside them.
export const zone = Intl.DateTimeFormat().resolvedOptions().timeZone

export const when = (t?: string) => (t ? day.format(new Date(t)) : '')

export function ago(t?: string): string {
  if (!t) return 'never'
  const s = (Date.now() - new Date(t).getTime()) / 1000
  if (s < 60) return 'just now'
  if (s < 3600) return `${Math.floor(s / 60)} min ago`
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ago`
  return `${Math.floor(s / 86400)} days ago`
}
