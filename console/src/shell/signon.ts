import { ApiError, type Problem } from '../api/call'

// said is what went wrong on the way back from the provider of sign-ins: the service leaves
// it in a cookie, and it is said once.
export function said(): ApiError | undefined {
  const found = /(?:^|; )magpie_said=([^;]+)/.exec(document.cookie)
  if (!found) return
  document.cookie = 'magpie_said=; Path=/; Max-Age=0; SameSite=Strict'
  const bytes = Uint8Array.from(atob(found[1].replace(/-/g, '+').replace(/_/g, '/')), (c) => c.charCodeAt(0))
  return new ApiError(JSON.parse(new TextDecoder().decode(bytes)) as Problem)
}
