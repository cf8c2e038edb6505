<script setup lang="ts" generic="T extends object">
import { useVirtualizer, useWindowVirtualizer } from '@tanstack/vue-virtual'
import { useElementSize, useMediaQuery } from '@vueuse/core'
import { computed, onMounted, ref, watch } from 'vue'
import ColumnChoice from './ColumnChoice.vue'
import TableHead from './TableHead.vue'
import { type Column, leastWidth, type Line, useRows, widthOf } from './table'

// A table of any length: sorted by its heads, its columns chosen, its rows picked, all
// by keyboard too. On a narrow screen each row is a card. What a cell shows beyond its
// column's value is a slot of the column's name.
const props = defineProps<{
  name: string // of the table, for whoever hears it and to keep its columns by
  columns: Column<T>[]
  rows: T[]
  rowId: (row: T) => string
  group?: (row: T) => string
  picks?: boolean
  tall?: boolean // it scrolls within itself, and fills what is left of the window
}>()
const emit = defineEmits<{ open: [row: T] }>()
const picked = defineModel<string[]>('picked', { default: () => [] })
const closed = ref<string[]>([])
const { table, lines, shown, sort, sortOf, show } = useRows(() => props, picked, closed)

function key(l?: Line<T>) {
  return !l ? '' : 'group' in l ? 'group ' + l.group : l.id
}
const root = ref<HTMLElement>()
const { width: room } = useElementSize(root)
const phone = useMediaQuery('(max-width: 639px)')
const cards = computed(() => phone.value || (room.value > 0 && room.value < leastWidth(shown.value) + (props.picks ? 36 : 0)))
const grid = computed(() => (props.picks ? '2.25rem ' : '') + shown.value.map(widthOf).join(' '))
const scroller = ref<HTMLElement>()
const list = ref<HTMLElement>()
const offset = ref(0)
const within = computed(() => !!props.tall && !cards.value)
// Rows of a long list are of one height: to measure each as it comes takes too long.
const fixed = computed(() => !cards.value && props.rows.length > 300)
const sizes = computed(() => ({
  count: lines.value.length,
  estimateSize: () => (cards.value ? 120 : fixed.value ? 38 : 34),
  overscan: fixed.value ? 1 : 4,
  getItemKey: (i: number) => key(lines.value[i]),
}))
const own = useVirtualizer(computed(() => ({ ...sizes.value, getScrollElement: () => scroller.value ?? null, enabled: within.value })))
const page = useWindowVirtualizer(computed(() => ({ ...sizes.value, scrollMargin: offset.value, enabled: !within.value })))
// Not computed: what is drawn changes while the object stays the same.
const virtual = () => (within.value ? own.value : page.value)
const place = () => (offset.value = list.value ? list.value.getBoundingClientRect().top + window.scrollY : 0)
onMounted(place)
watch([lines, within], place, { flush: 'post' })

const chosen = computed(() => new Set(picked.value))
const all = computed(() => props.rows.length > 0 && picked.value.length >= props.rows.length)
const pickAll = () => (picked.value = all.value ? [] : props.rows.map(props.rowId))
const pick = (id: string, e: Event) => table.getRow(id, true).getToggleSelectedHandler()(e)
const turn = (g: string) => (closed.value = closed.value.includes(g) ? closed.value.filter((x) => x !== g) : [...closed.value, g])

// A card begins with what leads it, and shows nothing that is empty.
const byLead = computed(() => [...shown.value.filter((c) => c.card === 'lead'), ...shown.value.filter((c) => !c.card || c.card === 'bare')])
const cellsOf = (row: T) =>
  cards.value ? byLead.value.filter((c) => !c.value || ![undefined, null, ''].includes(c.value(row) as never)) : shown.value

// The row that keys work on: arrows move it, Enter opens it, the space bar picks it.
const active = ref(0)
let moving = false // to a row that has not the focus yet
function move(to: number) {
  active.value = Math.min(Math.max(to, 0), lines.value.length - 1)
  virtual().scrollToIndex(active.value)
  moving = true
  requestAnimationFrame(() => {
    moving = false
    list.value?.querySelector<HTMLElement>(`[data-index="${active.value}"]`)?.focus()
  })
}
function keyed(e: KeyboardEvent) {
  if (e.target !== e.currentTarget && (e.target as HTMLElement).getAttribute('data-index') === null) return
  const under = (e.target as HTMLElement).getAttribute('data-index')
  if (under !== null && !moving) active.value = Number(under) // what was scrolled to meanwhile
  const l = lines.value[active.value]
  const deeds: Record<string, () => void> = {
    ArrowDown: () => move(active.value + 1),
    ArrowUp: () => move(active.value - 1),
    PageDown: () => move(active.value + 15),
    PageUp: () => move(active.value - 15),
    Home: () => move(0),
    End: () => move(lines.value.length - 1),
    Enter: () => l && ('group' in l ? turn(l.group) : emit('open', l.row)),
    ' ': () => l && ('group' in l ? turn(l.group) : props.picks && pick(l.id, { target: { checked: !chosen.value.has(l.id) } } as never)),
  }
  if (!deeds[e.key]) return
  e.preventDefault()
  deeds[e.key]()
}
defineSlots<{ [column: string]: (scope: { row: T; rows: T[]; group: string }) => unknown }>()
</script>

<template>
  <div ref="root" class="card relative min-w-0">
    <ColumnChoice v-if="columns.length > 3 && !cards" :columns="columns" :shown="shown" class="absolute top-1 right-1 z-20" @show="show" />
    <div ref="scroller" :class="within ? 'tall-table overflow-auto' : 'overflow-x-clip'">
      <div role="grid" :aria-label="name" :aria-rowcount="rows.length" class="min-w-full" @keydown="keyed">
        <TableHead v-if="!cards" :columns="shown" :grid="grid" :picks="picks" :all="all" :sort-of="sortOf" @sort="sort" @all="pickAll" />
        <div ref="list" role="rowgroup" class="relative" :style="{ height: virtual().getTotalSize() + 'px' }">
          <template v-for="(v, slot) in virtual().getVirtualItems()" :key="slot">
            <div
              v-for="l in [lines[v.index]].filter(Boolean)"
              :key="'group' in l ? 'group' : 'row'"
              :ref="(el) => fixed || virtual().measureElement(el as Element)"
              role="row"
              :data-index="v.index"
              :aria-rowindex="v.index + 2"
              :aria-selected="picks && 'row' in l ? chosen.has(l.id) : undefined"
              :tabindex="v.index === Math.min(active, lines.length - 1) ? 0 : -1"
              class="table-row-box"
              :class="{ 'is-card': cards, 'is-group': 'group' in l, 'is-picked': 'row' in l && chosen.has(l.id), 'is-fixed': fixed }"
              :style="{
                transform: `translateY(${v.start - (within ? 0 : offset)}px)`,
                gridTemplateColumns: cards || 'group' in l ? undefined : grid,
              }"
              @focus="active = v.index"
              @dblclick="'row' in l && emit('open', l.row)"
            >
              <div v-if="'group' in l" role="gridcell" class="flex items-center gap-3 px-2">
                <button type="button" class="link font-semibold" :aria-expanded="!closed.includes(l.group)" @click="turn(l.group)">
                  {{ closed.includes(l.group) ? '▸' : '▾' }} {{ l.group || 'none' }}
                </button>
                <slot name="group-head" :group="l.group" :rows="l.rows" :row="l.rows[0]" />
              </div>
              <template v-else>
                <div v-if="picks" role="gridcell" class="grid place-items-center">
                  <input
                    type="checkbox"
                    class="check"
                    tabindex="-1"
                    :aria-label="'pick ' + l.id"
                    :checked="chosen.has(l.id)"
                    @click="pick(l.id, $event)"
                  />
                </div>
                <div
                  v-for="c in cellsOf(l.row)"
                  :key="c.id"
                  role="gridcell"
                  class="table-cell-box"
                  :class="{ 'text-right': c.right && !cards, 'is-lead': c.card === 'lead' }"
                >
                  <span v-if="cards && c.label && !c.card" class="card-label">{{ c.label }}</span><slot
                    v-if="$slots[c.id]"
                    :name="c.id"
                    :row="l.row"
                    :rows="[]"
                    group=""
                  /><template v-else>{{ c.value?.(l.row) }}</template>
                </div>
              </template>
            </div>
          </template>
        </div>
      </div>
    </div>
    <slot v-if="!rows.length" name="none" :row="{} as T" :rows="[]" group="" />
  </div>
</template>
