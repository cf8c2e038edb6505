import type { Schemas } from '../api/call'

// A rule as a form holds it, and as the line that the service reads.
export const forms = [
  { value: 'daily', label: 'every day' },
  { value: 'weekly', label: 'every week' },
  { value: 'monthly', label: 'every month' },
  { value: 'yearly', label: 'every year' },
  { value: 'every', label: 'every so many minutes or hours' },
  { value: 'once', label: 'once' },
  { value: 'cron', label: 'as a cron line says' },
] as const

export interface RuleForm {
  form: string
  times: string
  days: string // of the week, of the month or of the year
  span: string
  at: string // once
  cron: string
}

export const usual = (): RuleForm => ({ form: 'daily', times: '02:00', days: '', span: '6h', at: '', cron: '0 2 * * 1-5' })

export function lineOf(r: RuleForm): string {
  switch (r.form) {
    case 'every':
      return `every ${r.span.trim()}`
    case 'once':
      return `once ${r.at.replace('T', ' ')}`
    case 'cron':
      return `cron ${r.cron.trim()}`
    case 'daily':
      return `daily ${r.times.replace(/\s/g, '')}`
  }
  return `${r.form} ${r.days.replace(/\s/g, '')} ${r.times.replace(/\s/g, '')}`
}

export function formOf(line: string): RuleForm {
  const [form, ...rest] = line.split(' ')
  const r = { ...usual(), form }
  if (form === 'every') r.span = rest[0]
  else if (form === 'once') r.at = rest.join('T')
  else if (form === 'cron') r.cron = rest.join(' ')
  else {
    r.times = rest[rest.length - 1]
    r.days = rest.length > 1 ? rest[0] : ''
  }
  return r
}

// What days are called where they are asked for.
export const dayHints: Record<string, { label: string; like: string }> = {
  weekly: { label: 'Days of the week', like: 'mon,thu' },
  monthly: { label: 'Days of the month', like: '1,15 or last' },
  yearly: { label: 'Month and day', like: '11-30' },
}

export const deedSaid = (d: { kind: string; with?: Record<string, string> }) =>
  [d.kind, ...Object.entries(d.with ?? {}).map(([k, v]) => `${k}=${v}`)].join(' ')

// What a new service is offered: everything every night.
export const nightly: Partial<Schemas['Schedule']> = {
  name: 'nightly',
  rule: 'daily 02:00',
  selector: ['all'],
  spread: '30m',
  deeds: [{ kind: 'pull' }, { kind: 'drift' }],
}
