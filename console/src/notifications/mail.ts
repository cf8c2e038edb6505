import type { Schemas } from '../api/call'

// The mail server as a form has it.
export const mailForm = (m?: Schemas['MailServer']) => ({
  server: m?.server ?? '',
  security: m?.security || 'starttls',
  user: m?.user ?? '',
  password: '',
  from: m?.from ?? '',
  ca: m?.ca ?? '',
  console: m?.console || window.location.origin,
})
export type MailForm = ReturnType<typeof mailForm>

// What is sent of it.
export const mailBody = (f: MailForm) => ({
  ...f,
  user: f.user || undefined,
  password: f.password || undefined,
  ca: f.ca.trim() ? f.ca : undefined,
})
