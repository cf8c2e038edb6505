<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { Schemas } from '../api/call'
import { when } from '../composables/time'

// Devices below each other, time from left to right: a change is a block where it was seen first, one that hit
// several devices alike is a column. A click leads to its lines below.
const props = defineProps<{ changes: Schemas['Together'][] }>()
const emit = defineEmits<{ go: [i: number] }>()
const ROW = 18
const NAME = 150
const MOST = 60 // devices that are drawn
const box = ref<HTMLElement>()
const { width } = useElementSize(box)
const time = (t: string) => new Date(t).getTime()

// A first version is no change.
const later = (t: Schemas['Together']) => t.versions.filter((v) => v.number > 1)
const devices = computed(() => {
  const names = new Set<string>()
  // What changed alike comes first, and stands together.
  for (const t of [...props.changes].sort((a, b) => b.devices - a.devices)) for (const v of later(t)) names.add(v.device)
  return [...names]
})
const drawn = computed(() => devices.value.slice(0, MOST))
const span = computed(() => {
  const all = props.changes.flatMap((t) => later(t).map((v) => time(v.taken_at)))
  const [from, to] = [Math.min(...all), Math.max(...all)]
  const pad = Math.max((to - from) * 0.03, 60_000)
  return { from: from - pad, to: to + pad }
})
const at = (t: string) => NAME + ((time(t) - span.value.from) / (span.value.to - span.value.from)) * Math.max(width.value - NAME - 8, 40)
const columns = computed(() =>
  props.changes.flatMap((t, i) => {
    if (!later(t).length) return []
    const marks = later(t)
      .map((v) => ({ x: at(v.taken_at), y: drawn.value.indexOf(v.device) * ROW }))
      .filter((m) => m.y >= 0)
    const ys = marks.map((m) => m.y)
    const said = t.devices > 1 ? `${t.devices} devices alike` : t.versions[0].device
    return {
      i,
      marks,
      alike: t.devices > 1,
      x: at(t.from),
      top: Math.min(...ys),
      foot: Math.max(...ys) + ROW,
      label: `${said}, ${when(t.to)}, +${t.added} −${t.removed}`,
    }
  }),
)
const height = computed(() => drawn.value.length * ROW)
const said = ref('')
</script>

<template>
  <section v-if="devices.length" class="card mb-3 p-3" aria-label="Changes by device and time">
    <div ref="box" class="overflow-x-auto">
      <svg
        v-if="width"
        :width="Math.max(width, 320)"
        :height="height + 18"
        role="group"
        aria-label="Devices below each other, oldest left"
        class="block"
      >
        <g v-for="(d, k) in drawn" :key="d">
          <text x="0" :y="k * ROW + 13" class="fill-ink text-xs">{{ d.length > 20 ? d.slice(0, 19) + '…' : d }}</text>
          <line :x1="NAME" :x2="width - 8" :y1="k * ROW + ROW / 2" :y2="k * ROW + ROW / 2" class="stroke-rule" stroke-width="6" />
        </g>
        <g
          v-for="c in columns"
          :key="c.i"
          role="button"
          tabindex="0"
          class="cursor-pointer"
          :class="c.alike ? 'text-violet' : 'text-teal'"
          :aria-label="c.label"
          @click="emit('go', c.i)"
          @keydown.enter.prevent="emit('go', c.i)"
          @keydown.space.prevent="emit('go', c.i)"
          @focus="said = c.label"
          @pointerenter="said = c.label"
        >
          <rect v-if="c.alike" :x="c.x - 7" :y="c.top" width="14" :height="c.foot - c.top" rx="3" class="fill-current" opacity="0.22" />
          <rect v-for="(m, k) in c.marks" :key="k" :x="m.x - 4" :y="m.y + 3" width="8" :height="ROW - 6" rx="2" class="fill-current" />
        </g>
        <text :x="NAME" :y="height + 14" class="fill-faded text-xs">{{ when(new Date(span.from).toISOString()) }}</text>
        <text :x="width - 8" :y="height + 14" text-anchor="end" class="fill-faded text-xs">
          {{ when(new Date(span.to).toISOString()) }}
        </text>
      </svg>
    </div>
    <p class="mt-1 text-sm text-faded">
      {{ said || 'A block is a change, a column one that hit several devices alike.' }}
      <template v-if="devices.length > MOST"> The first {{ MOST }} of {{ devices.length }} devices are drawn.</template>
    </p>
  </section>
</template>
