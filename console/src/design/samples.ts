import type { Diff } from '../api/call'
import type { Column } from './table'

// What the page of all components shows them with.
export interface Berth {
  name: string
  state: string
  site: string
  lines: number
  seen: string
}
const ago = (h: number) => new Date(Date.now() - h * 3600_000).toISOString()
export const berths: Berth[] = [
  { name: 'skerrinsay-r1', state: 'drifted', site: 'skerrinsay', lines: 83, seen: ago(1) },
  { name: 'callowmere-sw1', state: 'unsaved', site: 'callowmere', lines: 61, seen: ago(30) },
  { name: 'dunvarrow-r1', state: 'unreachable', site: 'dunvarrow', lines: 79, seen: ago(200) },
  { name: 'innisquill-r1', state: 'in sync', site: 'skerrinsay', lines: 80, seen: ago(3) },
]
export const columns: Column<Berth>[] = [
  { id: 'name', label: 'Device', value: (b) => b.name, always: true, card: 'lead' },
  { id: 'state', label: 'State', value: (b) => b.state },
  { id: 'site', label: 'Site', value: (b) => b.site },
  { id: 'lines', label: 'Lines', value: (b) => b.lines, right: true, first: 'down' },
  { id: 'seen', label: 'Seen', value: (b) => b.seen, first: 'down' },
]
export const states = ['in sync', 'drifted', 'unsaved', 'running', 'never pulled', 'pull failing', 'verified', 'differs', 'undone']
export const text =
  '.. running of skerrinsay-r1\nname skerrinsay-r1\nlane quay1\n  note "gangway one"\n  berth 10.12.12.1/24\nlane quay2\n  shut\n'
export const diff: Diff = {
  from: 'skerrinsay-r1@3',
  to: 'skerrinsay-r1@4',
  relation: 'different',
  changes: [],
  added: 1,
  removed: 1,
  set_aside: 2,
  let_go: { order: 0, blanks: 0, defaults: 1, written: 0, itself: 0 },
  ignored: 0,
  hidden: [],
  unsure: 0,
  masked: true,
  unified: '',
  hunks: [
    {
      from: 3,
      from_lines: 3,
      to: 3,
      to_lines: 3,
      block: 'lane quay1',
      lines: [
        { op: 'same', text: 'lane quay1', from: 3, to: 3 },
        { op: 'remove', text: '  note "gangway one"', from: 4, marks: [[8, 19]] },
        { op: 'add', text: '  note "gangway two"', to: 4, marks: [[8, 19]] },
        { op: 'same', text: '  berth 10.12.12.1/24', from: 5, to: 5 },
      ],
    },
  ],
}
export const problem = {
  type: 'about:blank',
  title: 'not allowed',
  status: 403,
  detail: 'pushing takes the role operator',
  next: 'ask an admin for it',
}
