import {
  columnVisibilityFeature,
  createSortedRowModel,
  rowSelectionFeature,
  rowSortingFeature,
  sortFn_alphanumeric,
  tableFeatures,
  useTable,
  type ColumnDef,
} from '@tanstack/vue-table'
import { useLocalStorage, useWindowSize } from '@vueuse/core'
import { computed, type Ref } from 'vue'

// Column is one column of a table: how it is called, what of a row it shows and is
// sorted by, and how wide it is (as in grid-template-columns).
export interface Column<T> {
  id: string
  label: string
  value?: (row: T) => string | number | undefined // none: it cannot be sorted by
  width?: string
  hidden?: boolean // until somebody chooses it
  always?: boolean // it cannot be hidden
  right?: boolean // numbers
  from?: number // how wide the window must be for it to be shown until somebody chooses
  card?: 'lead' | 'bare' | 'no' // on a card: it stands first, both without its label; or not at all
  first?: 'down' // the first click sorts down
}

export const widthOf = <T>(c: Column<T>) => c.width ?? 'minmax(6rem, 1fr)'

// leastWidth is how many pixels the columns take at the least; with less room their rows
// are cards.
export const leastWidth = <T>(columns: Column<T>[]) =>
  columns.reduce((sum, c) => sum + 16 * Number(/[\d.]+(?=rem)/.exec(widthOf(c))?.[0] ?? 0), 0)

export const features = tableFeatures({
  rowSortingFeature,
  columnVisibilityFeature,
  rowSelectionFeature,
  sortedRowModel: createSortedRowModel(),
  sortFns: { alphanumeric: sortFn_alphanumeric },
})

// Line is what a table draws: a row, or the head of a group.
export type Line<T> = { group: string; rows: T[] } | { row: T; id: string; index: number }

export interface Setup<T> {
  name: string // under which a person's columns and order are kept
  columns: Column<T>[]
  rows: T[]
  rowId: (row: T) => string
  group?: (row: T) => string
}

// Whose choices are kept: several people may sit at one machine.
let whose = ''
export const keepFor = (person: string) => (whose = person)

// What a person has chosen of a table is kept on this machine.
export interface Kept {
  hidden: Record<string, boolean> // by column, what differs from the usual
  sort: { id: string; desc: boolean }[]
}

export function useRows<T extends object>(setup: () => Setup<T>, picked: Ref<string[]>, closed: Ref<string[]>) {
  const kept = useLocalStorage<Kept>(`table ${setup().name} of ${whose}`, { hidden: {}, sort: [] })
  const { width } = useWindowSize()
  const usual = (c: Column<T>) => c.hidden ?? width.value < (c.from ?? 0)
  const shown = computed(() => setup().columns.filter((c) => c.always || !(kept.value.hidden[c.id] ?? usual(c))))
  const selection = computed({
    get: () => Object.fromEntries(picked.value.map((id) => [id, true as const])),
    set: (v: Record<string, boolean>) => (picked.value = Object.keys(v).filter((id) => v[id])),
  })
  const table = useTable<typeof features, T>({
    features,
    columns: computed(() =>
      setup().columns.map((c): ColumnDef<typeof features, T> => ({
        id: c.id,
        accessorFn: (row: T) => c.value?.(row),
        enableSorting: !!c.value,
        sortUndefined: 'last',
        sortFn: 'alphanumeric',
        sortDescFirst: c.first === 'down',
      })),
    ),
    data: computed(() => setup().rows),
    getRowId: (row: T) => setup().rowId(row),
    enableSortingRemoval: true,
    state: computed(() => ({ sorting: kept.value.sort, rowSelection: selection.value })),
    onSortingChange: (next: unknown) => {
      kept.value.sort = typeof next === 'function' ? next(kept.value.sort) : (next as Kept['sort'])
    },
    onRowSelectionChange: (next: unknown) => {
      selection.value = typeof next === 'function' ? next(selection.value) : (next as Record<string, boolean>)
    },
  } as any)
  const lines = computed<Line<T>[]>(() => {
    void kept.value.sort
    const rows = table.getRowModel().rows
    const { group } = setup()
    const one = (r: (typeof rows)[number], index: number) => ({ row: r.original as T, id: r.id, index })
    if (!group) return rows.map(one)
    const groups = new Map<string, typeof rows>()
    for (const r of rows) {
      const g = group(r.original as T)
      groups.get(g)?.push(r) ?? groups.set(g, [r])
    }
    let index = 0
    return [...groups].flatMap(([g, of]) => [
      { group: g, rows: of.map((r) => r.original as T) },
      ...(closed.value.includes(g) ? [] : of.map((r) => one(r, index++))),
    ])
  })
  const sortOf = (id: string) => kept.value.sort.find((s) => s.id === id)
  // Once up, once down (or the other way round), and then as it came.
  function sort(c: Column<T>) {
    const was = sortOf(c.id)
    const first = c.first === 'down'
    kept.value.sort = !was ? [{ id: c.id, desc: first }] : was.desc === first ? [{ id: c.id, desc: !first }] : []
  }
  function show(c: Column<T>, on: boolean) {
    kept.value.hidden = { ...kept.value.hidden, [c.id]: !on }
  }
  return { table, lines, shown, sort, sortOf, show }
}
