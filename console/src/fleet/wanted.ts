import type { RouteLocationRaw } from 'vue-router'
import type { Device } from '../api/call'

// Wanted is what a device asks for next: in words, and where that is done.
export interface Wanted {
  says: string
  deed?: string
  to?: RouteLocationRaw
}

export const apartOf = (d: Device) => d.apart ?? { word: 'unsaved', part: 'startup', follows: 'running' }
const notSaved = (d: Device) => (apartOf(d).word === 'unsaved' ? 'not saved' : apartOf(d).word)
export const toUnsaved = (d: Device) => `/compare?from=${d.name}/${apartOf(d).part}@latest&to=${d.name}/${apartOf(d).follows}@latest`
export const toDrift = (d: Device) => `/compare?from=${d.name}@baseline&to=${d.name}@latest`

export function wanted(d: Device, operator: boolean): Wanted {
  const says = (d.trouble ?? '').replace(d.state + ': ', '')
  switch (d.state) {
    case 'drifted':
      return { says: '', deed: 'see what drifted', to: toDrift(d) }
    case 'unsaved':
      return { says: '', deed: `see what is ${notSaved(d)}`, to: toUnsaved(d) }
    case 'never pulled':
      return { says: 'pull it for the first time' }
    case 'hardware changed':
      return operator && d.latest ? { says, deed: 'swap it in', to: `/push?ref=${d.name}&to=${d.name}&swap=1` } : { says }
    case 'factory defaults':
      return operator && d.latest ? { says, deed: 'put it back', to: `/push?ref=${d.name}` } : { says }
  }
  return { says }
}
export { notSaved }
