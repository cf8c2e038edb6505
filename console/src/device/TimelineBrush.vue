<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { Version } from '../api/call'
import { when } from '../composables/time'
import type { View } from './timeline'

// Which stretch of time is in view: the whole of it, with a window to be drawn.
const props = defineProps<{ whole: View; versions: Version[] }>()
const view = defineModel<View>({ required: true })
const bar = ref<HTMLElement>()
const { width } = useElementSize(bar)
const span = computed(() => props.whole.to - props.whole.from)
const x = (t: number) => ((t - props.whole.from) / span.value) * width.value
const ticks = computed(() => {
  const seen = new Set<number>()
  for (const v of props.versions) seen.add(Math.round(x(new Date(v.taken_at).getTime())))
  return [...seen]
})
const from = ref<number>()
const at = (e: PointerEvent) => Math.min(Math.max(e.clientX - bar.value!.getBoundingClientRect().left, 0), width.value)
const timeAt = (px: number) => props.whole.from + (px / width.value) * span.value
function draw(e: PointerEvent) {
  if (from.value === undefined) return
  const [a, b] = [Math.min(from.value, at(e)), Math.max(from.value, at(e))]
  if (b - a > 6) view.value = { from: timeAt(a), to: timeAt(b) }
}
function zoom(by: number) {
  const mid = (view.value.from + view.value.to) / 2
  const half = Math.max(((view.value.to - view.value.from) / 2) * by, 30_000)
  view.value = { from: Math.max(mid - half, props.whole.from), to: Math.min(mid + half, props.whole.to) }
}
const all = computed(() => view.value.from <= props.whole.from && view.value.to >= props.whole.to)
const stamp = (t: number) => when(new Date(t).toISOString())
</script>

<template>
  <div class="flex items-center gap-2 text-xs text-faded">
    <span class="hidden whitespace-nowrap sm:inline">{{ stamp(view.from) }}</span>
    <div
      ref="bar"
      class="relative h-4 min-w-0 grow cursor-crosshair touch-none rounded bg-leaf select-none"
      aria-hidden="true"
      @pointerdown="from = at($event)"
      @pointermove="draw"
      @pointerup="from = undefined"
      @pointerleave="from = undefined"
    >
      <span v-for="t in ticks" :key="t" class="absolute inset-y-1 w-px bg-faded" :style="{ left: t + 'px' }"></span>
      <span
        class="absolute inset-y-0 rounded border border-violet bg-violet/10"
        :style="{ left: x(view.from) + 'px', width: Math.max(x(view.to) - x(view.from), 4) + 'px' }"
      ></span>
    </div>
    <span class="hidden whitespace-nowrap sm:inline">{{ all ? 'now' : stamp(view.to) }}</span>
    <button type="button" class="icon-button border border-rule" aria-label="Look closer" @click="zoom(0.5)">+</button>
    <button type="button" class="icon-button border border-rule" aria-label="Look from further away" :disabled="all" @click="zoom(2)">
      −
    </button>
    <button v-if="!all" type="button" class="button is-small" @click="view = { ...whole }">All</button>
  </div>
</template>
