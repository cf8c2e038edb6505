import { computed, reactive } from 'vue'
import { serverNow } from '../api/clock'
import type { Preview, Schemas } from '../api/call'
import { zone } from '../composables/time'

export const windows = [
  { value: '1m', label: 'within a minute' },
  { value: '5m', label: 'within 5 minutes' },
  { value: '15m', label: 'within 15 minutes' },
  { value: '1h', label: 'within an hour' },
  { value: '8h', label: 'within 8 hours' },
  { value: '24h', label: 'within a day' },
  { value: '', label: 'never: it stays' },
]

// useSafety is how a push is made safe, and what is asked of the service for it.
export function useSafety(preview: () => Preview) {
  const form = reactive({
    within: '5m',
    whenEqual: false,
    checks: '',
    hold: false,
    leave: false,
    save: true,
    later: false,
    from: '',
    until: '',
    override: '',
    note: '',
    end: '',
    nameBefore: '',
    nameAfter: '',
  })
  // asks: a second person has to approve it, and nobody goes ahead alone.
  const asks = computed(() => !!preview().approval && !form.override)
  const staged = computed(() => preview().method === 'stage')
  const whole = computed(() => preview().steps[0]?.kind === 'load' || staged.value)
  const onlySave = computed(() => !preview().steps.length && preview().unsaved && preview().saves)
  const something = computed(() => preview().steps.length > 0 || onlySave.value)
  const checks = computed(() =>
    form.checks
      .split('\n')
      .map((c) => c.trim())
      .filter(Boolean),
  )
  // Why it cannot be sent yet; empty when it can.
  const lacks = computed(() => {
    if (preview().warnings.length && !form.override) return 'say why it is done despite the warnings'
    if (asks.value && (preview().swap || preview().at || preview().relay))
      return 'have an admin go ahead alone, or take the rule away: a swap cannot be planned'
    if (form.later && (!form.from || !form.until)) return 'say when'
    if (form.end && !form.note) return 'say why a session is ended'
    return ''
  })
  const instant = (t: string) => (form.later && t ? new Date(t).toISOString() : undefined)
  const body = (): Schemas['NewPush'] => ({
    preview: preview().id,
    hash: preview().hash,
    // Approval is asked for by a plan that begins as soon as it is given, within a day.
    from: instant(form.from) ?? (asks.value ? new Date(serverNow()).toISOString() : undefined),
    until: instant(form.until) ?? (asks.value ? new Date(serverNow() + 24 * 3600_000).toISOString() : undefined),
    zone: form.later || asks.value ? zone : undefined,
    no_save: !form.save,
    hold_restart: form.hold && staged.value,
    leave: form.leave && !whole.value,
    note: form.note,
    end_session: form.end || undefined,
    name_before: form.nameBefore || undefined,
    name_after: form.nameAfter || undefined,
    override: form.override || undefined,
    within: form.within && preview().steps.length ? form.within : undefined,
    when_verified: form.whenEqual && !!form.within && preview().steps.length > 0,
    checks: checks.value,
  })
  const deed = computed(() => {
    const n = preview().lines
    if (asks.value) return 'Ask for approval'
    if (onlySave.value) return 'Save what runs'
    return form.later ? 'Plan it' : whole.value ? 'Push it' : `Push ${n} ${n === 1 ? 'line' : 'lines'}`
  })
  return { form, asks, staged, whole, onlySave, something, checks, lacks, body, deed }
}
