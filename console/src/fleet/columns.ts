import type { Device } from '../api/call'
import type { Column } from '../design/table'

// What the fleet's list can show of a device. order is that of the states, worst first.
export const columns = (order: () => string[]): Column<Device>[] => [
  { id: 'state', label: 'State', value: (d) => order().indexOf(d.state), width: 'minmax(9.5rem, 0.9fr)', always: true, card: 'lead' },
  { id: 'name', label: 'Device', value: (d) => d.name, width: 'minmax(10.5rem, 1.3fr)', always: true, card: 'lead' },
  { id: 'site', label: 'Site', value: (d) => d.site, width: 'minmax(6.5rem, 0.9fr)' },
  { id: 'kind', label: 'Kind', value: (d) => d.kind, width: 'minmax(7rem, 0.7fr)', from: 1500, card: 'no' },
  { id: 'model', label: 'Model', value: (d) => d.model ?? '', width: 'minmax(6.5rem, 0.9fr)', from: 1000, card: 'no' },
  { id: 'release', label: 'Release', value: (d) => d.release ?? '', width: 'minmax(5rem, 0.6fr)', from: 1400, card: 'no' },
  { id: 'latest', label: 'Ver.', value: (d) => d.latest, width: '3.5rem', right: true, from: 1400, card: 'no' },
  { id: 'changed', label: 'Changed', value: (d) => d.last_changed, width: 'minmax(5rem, 0.6fr)', first: 'down', from: 1000, card: 'no' },
  { id: 'pulled', label: 'Pulled', value: (d) => d.last_pulled, width: 'minmax(5rem, 0.6fr)', first: 'down' },
  { id: 'proven', label: 'Proven', value: (d) => d.last_proven, width: 'minmax(5rem, 0.6fr)', first: 'down', from: 900, card: 'no' },
  { id: 'dialect', label: 'Dialect', value: (d) => d.dialect, width: 'minmax(5rem, 0.7fr)', hidden: true },
  { id: 'tags', label: 'Tags', value: (d) => d.tags.join(' '), width: 'minmax(5rem, 0.8fr)', hidden: true },
  { id: 'address', label: 'Address', value: (d) => d.address, width: 'minmax(7rem, 1fr)', hidden: true },
  { id: 'serial', label: 'Serial', value: (d) => d.serial, width: 'minmax(6rem, 0.8fr)', hidden: true },
  { id: 'what', label: 'What is wrong, or to do', width: 'minmax(10rem, 2fr)', always: true, card: 'bare' },
]
