<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import type { Job, Schemas, Version } from '../api/call'
import { now, when, zone } from '../composables/time'
import { blocks, HEIGHT, looks, lookOf, marks, names, type Block } from './timeline'
import TimelineBrush from './TimelineBrush.vue'

// The timeline of a part's versions. Two are picked one by one, or by dragging from one to
// the other; the stretch in view is chosen below.
const props = defineProps<{ versions: Version[]; jobs: Job[]; swaps: Schemas['Swap'][]; since?: string; picked: number[] }>()
const emit = defineEmits<{ pick: [number: number]; span: [from: number, to: number] }>()
const box = ref<HTMLElement>()
const { width } = useElementSize(box)
const first = computed(() => Math.min(...props.versions.map((v) => new Date(v.taken_at).getTime()), now.value - 60_000))
const whole = computed(() => ({ from: first.value - (now.value - first.value) * 0.01, to: now.value }))
const view = ref({ ...whole.value })
watch(whole, (w, was) => {
  if (view.value.from === was.from && view.value.to === was.to) view.value = { ...w }
})
const bs = computed(() => (width.value ? blocks(props.versions, view.value, width.value, now.value) : []))
const above = computed(() => marks(props.jobs, props.swaps, props.since, view.value, width.value))
const used = computed(() => [...new Set(bs.value.map((b) => b.look))])

const size = (v: Version) => (v.lines ? `${v.lines} lines, +${v.added} −${v.removed}` : `${v.size} bytes`)
const label = (b: Block) =>
  b.count > 1
    ? `${b.count} versions, ${b.first.number} to ${b.last.number}, from ${when(b.first.taken_at)}`
    : [
        `version ${b.first.number}`,
        b.first.name,
        `taken ${when(b.first.taken_at)}`,
        b.first.author && `changed by ${b.first.author}`,
        size(b.first),
        b.first.excluded || looks[lookOf(b.first)].word,
        b.first.baseline && 'the baseline',
        b.first.note,
      ]
        .filter(Boolean)
        .join(', ')
const isPicked = (b: Block) => props.picked.some((n) => n >= b.first.number && n <= b.last.number)

// One block is reached by Tab, the others from it by the arrows.
const at = ref(-1)
const on = computed(() => (at.value < 0 || at.value >= bs.value.length ? bs.value.length - 1 : at.value))
const said = ref('')
function step(by: number, e: KeyboardEvent) {
  at.value = Math.min(Math.max(on.value + by, 0), bs.value.length - 1)
  const g = (e.currentTarget as Element).parentElement
  requestAnimationFrame(() => (g?.querySelectorAll('[role=button]')[at.value] as SVGElement | undefined)?.focus())
}
function zoomTo(b: Block) {
  const from = new Date(b.first.taken_at).getTime()
  const to = new Date(b.last.taken_at).getTime()
  const pad = Math.max((to - from) * 0.2, 60_000)
  view.value = { from: from - pad, to: Math.min(to + pad, whole.value.to) }
}
const choose = (b: Block) => (b.count > 1 ? zoomTo(b) : emit('pick', b.first.number))

// Dragging from one end to the other.
const drag = ref<{ from: number; to: number }>()
const under = (x: number) => bs.value.filter((b) => b.x <= x).at(-1) ?? bs.value[0]
const place = (e: PointerEvent) => e.clientX - (box.value?.getBoundingClientRect().left ?? 0)
function drop(e: PointerEvent) {
  const d = drag.value
  drag.value = undefined
  if (!d || Math.abs(d.to - d.from) < 12) return
  const [a, b] = [under(Math.min(d.from, d.to)), under(Math.max(d.from, d.to))]
  if (a && b && a !== b) (e.preventDefault(), emit('span', a.first.number, b.last.number))
}
</script>

<template>
  <div>
    <div
      ref="box"
      class="relative select-none"
      @pointerdown="drag = { from: place($event), to: place($event) }"
      @pointermove="drag && (drag.to = place($event))"
      @pointerup="drop"
      @pointerleave="drag = undefined"
    >
      <div class="relative h-5 text-xs text-faded" aria-hidden="true">
        <span v-for="n in names(bs, width)" :key="n.text + n.x" class="absolute font-medium text-teal" :style="{ left: n.x + 'px' }">{{
          n.text
        }}</span>
      </div>
      <svg v-if="bs.length" :width="width" :height="HEIGHT" role="group" aria-label="Timeline of versions, oldest left" class="block">
        <defs>
          <pattern id="unknown" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <line x1="0" y1="0" x2="0" y2="6" class="stroke-faded" stroke-width="1.2" />
          </pattern>
        </defs>
        <g
          v-for="(b, i) in bs"
          :key="b.first.id"
          role="button"
          :tabindex="i === on ? 0 : -1"
          class="cursor-pointer"
          :class="looks[b.look].ink"
          :aria-label="label(b)"
          :aria-pressed="isPicked(b)"
          @click="choose(b)"
          @keydown.enter.prevent="choose(b)"
          @keydown.space.prevent="choose(b)"
          @keydown.left.prevent="step(-1, $event)"
          @keydown.right.prevent="step(1, $event)"
          @focus="((at = i), (said = label(b)))"
          @pointerenter="said = label(b)"
        >
          <rect
            v-if="b.width > b.seen + 1"
            :x="b.x + b.seen"
            :y="HEIGHT - b.tall"
            :width="b.width - b.seen"
            :height="b.tall - 5"
            fill="url(#unknown)"
            opacity="0.5"
          />
          <rect
            :x="b.x"
            :y="HEIGHT - b.tall"
            :width="Math.min(b.seen, b.width)"
            :height="b.tall - 5"
            fill="currentColor"
            :opacity="isPicked(b) ? 1 : 0.55"
          />
          <rect
            v-if="isPicked(b)"
            :x="b.x"
            :y="HEIGHT - b.tall"
            :width="b.width"
            :height="b.tall - 5"
            fill="none"
            class="stroke-violet"
            stroke-width="2"
          />
          <rect v-if="b.first.baseline || b.last.baseline" :x="b.x" :y="HEIGHT - 4" :width="b.width" height="4" class="fill-violet" />
        </g>
        <rect
          v-if="drag && Math.abs(drag.to - drag.from) > 12"
          class="pointer-events-none fill-violet"
          opacity="0.15"
          :x="Math.min(drag.from, drag.to)"
          y="0"
          :width="Math.abs(drag.to - drag.from)"
          :height="HEIGHT"
        />
      </svg>
      <div class="relative h-5" role="list" aria-label="What happened besides">
        <span
          v-for="(m, i) in above"
          :key="i"
          role="listitem"
          class="absolute -translate-x-1/2"
          :class="m.look"
          :style="{ left: Math.min(Math.max(m.x, 7), width - 7) + 'px' }"
          :title="m.label"
        >
          <RouterLink v-if="m.to" :to="m.to" class="text-inherit no-underline" :aria-label="m.label">{{ m.sign }}</RouterLink><span
            v-else
            :aria-label="m.label"
            role="img"
            >{{ m.sign }}</span
          >
        </span>
      </div>
    </div>
    <TimelineBrush v-model="view" :whole="whole" :versions="versions" />
    <div class="mt-1 flex flex-wrap gap-x-4 text-xs text-faded">
      <span class="min-w-0 grow basis-80">{{
        said || 'Point at a block to read of it; pick two, or drag from one to the other, to compare them.'
      }}</span>
      <span v-for="l in used" :key="l" :class="looks[l].ink">■ {{ looks[l].word }}</span>
      <span class="text-violet">▂ baseline</span><span>▨ not known</span><span>{{ zone }}</span>
    </div>
  </div>
</template>
