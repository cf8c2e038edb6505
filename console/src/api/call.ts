import { heard } from './clock'
import type { components } from './schema'

export type Schemas = components['schemas']
export type Device = Schemas['Device']
export type Version = Schemas['Version']
export type Job = Schemas['Job']
export type JobKind = Schemas['JobKind']
export type Entry = Schemas['Entry']
export type Diff = Schemas['Diff']
export type Hunk = Schemas['Hunk']
export type Preview = Schemas['Preview']
export type Difference = Schemas['Difference']
export type Checked = Schemas['Checked']
export type Finding = Schemas['Finding']
export type Dialect = Schemas['Dialect']
export type Probe = Schemas['Probe']
export type Me = Schemas['Me']
export type Touched = Schemas['Touched']
export type Problem = Schemas['Problem']

// ApiError is a problem as the service words it (RFC 9457).
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title)
  }
}

type Expired = () => Promise<void>
let csrf = ''
let onExpired: Expired | undefined

export function useCSRF(token: string) {
  csrf = token
}

// whenExpired is asked when a session has run out; once it is done, what was
// asked for is asked again, unless somebody else signed in.
export function whenExpired(ask: Expired) {
  onExpired = ask
}

const lost = (detail: string) =>
  new ApiError({
    type: 'about:blank',
    title: 'no answer',
    status: 0,
    detail,
    next: 'check that it runs and that this machine reaches it; what you typed is still here',
  })

// asked is the service's answer, of whatever kind. Who is not signed in any more is asked to
// sign in again first, but for the requests that are about signing in themselves.
async function asked(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<Response> {
  const send = () => {
    const sent = Date.now()
    return fetch('/api/v1' + path, {
      method,
      headers: {
        ...(body === undefined ? {} : { 'Content-Type': 'application/json' }),
        ...(method === 'GET' ? {} : { 'X-CSRF-Token': csrf }),
        ...headers,
      },
      body: typeof body === 'string' ? body : body === undefined ? undefined : JSON.stringify(body),
    })
      .catch(() => {
        throw lost('the service does not answer')
      })
      .then((res) => (heard(res.headers.get('Date'), sent), res))
  }
  let res = await send()
  if (res.status === 401 && onExpired && path !== '/session' && path !== '/me') {
    await onExpired()
    res = await send()
  }
  if (res.ok) return res
  throw await read<Problem>(res).then((p) => new ApiError(p))
}

// read is what stands in an answer. One that is no JSON came from something between here and the service.
const read = <T>(res: Response): Promise<T> =>
  res.json().catch(() => {
    throw lost(`what answered, with ${`${res.status} ${res.statusText}`.trim()}, is not the service`)
  })

export async function call<T>(method: string, path: string, body?: unknown, headers?: Record<string, string>): Promise<T> {
  const res = await asked(method, path, body, headers)
  return res.status === 204 ? (undefined as T) : read<T>(res)
}

// download asks for a file and leaves it to the browser, under the name that the service gives it.
export async function download(path: string, body: unknown) {
  const res = await asked('POST', path, body)
  const link = document.createElement('a')
  link.href = URL.createObjectURL(await res.blob())
  link.download = /filename="([^"]+)"/.exec(res.headers.get('Content-Disposition') ?? '')?.[1] ?? 'download'
  link.click()
  URL.revokeObjectURL(link.href)
}

export const get = <T>(path: string) => call<T>('GET', path)
// Page is one page of a list.
export type Page<T> = { items: T[]; next?: string }

// listAll gathers every page of a list.
export async function listAll<T>(path: string): Promise<T[]> {
  const out: T[] = []
  for (let next: string | undefined = ''; next !== undefined;) {
    const page: Page<T> = await get<Page<T>>(path + (next && (path.includes('?') ? '&' : '?') + 'cursor=' + encodeURIComponent(next)))
    out.push(...page.items)
    next = page.next
  }
  return out
}

// versionsOf lists the versions of a device's part, newest first.
export const versionsOf = (device: string, part?: string) =>
  listAll<Version>(`/devices/${encodeURIComponent(device)}/versions` + query({ part, limit: 1000 }))

export const post = <T>(path: string, body?: unknown, headers?: Record<string, string>) => call<T>('POST', path, body, headers)
export const patch = <T>(path: string, body: unknown) => call<T>('PATCH', path, body)

// query builds a query string, leaving empty values out.
export function query(values: Record<string, string | number | boolean | undefined>): string {
  const q = new URLSearchParams()
  for (const [k, v] of Object.entries(values)) if (v !== undefined && v !== '') q.set(k, String(v))
  const s = q.toString()
  return s ? '?' + s : ''
}
