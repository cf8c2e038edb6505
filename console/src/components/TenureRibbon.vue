<script setup lang="ts">
import { computed } from 'vue'
import type { Version } from '../api/call'
import { when } from '../composables/time'

// Time runs left to right; each version is a block as long as it was in force
// and as tall as its change was large. Hatched is what is not known; the bar on
// top marks the baseline.
const props = defineProps<{ versions: Version[]; picked: number[] }>()
const emit = defineEmits<{ pick: [number: number] }>()

const WIDTH = 1000
const HEIGHT = 84
const blocks = computed(() => {
  const vs = [...props.versions].sort((a, b) => a.number - b.number)
  if (!vs.length) return []
  const from = new Date(vs[0].taken_at).getTime()
  const span = Math.max(Date.now() - from, 1)
  const x = (t: string | number) => ((new Date(t).getTime() - from) / span) * WIDTH
  const biggest = Math.max(1, ...vs.map((v) => Math.log1p(v.added + v.removed)))
  return vs.map((v, i) => {
    const left = x(v.taken_at)
    const right = i + 1 < vs.length ? x(vs[i + 1].taken_at) : WIDTH
    const seen = Math.min(Math.max(x(v.seen_until), left), right)
    const tall = i === 0 ? 30 : 26 + 44 * (Math.log1p(v.added + v.removed) / biggest)
    return { v, left, width: Math.max(right - left - 1.5, 3), seen: Math.max(seen - left, 2), tall }
  })
})
const label = (v: Version) =>
  `version ${v.number}${v.name ? ', ' + v.name : ''}, taken ${when(v.taken_at)}, ` +
  `${v.added} added, ${v.removed} removed${v.baseline ? ', the baseline' : ''}`
</script>

<template>
  <svg
    v-if="blocks.length"
    :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
    preserveAspectRatio="none"
    class="h-24 w-full"
    role="group"
    aria-label="Tenure of versions, oldest left"
  >
    <defs>
      <pattern id="unknown" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <line x1="0" y1="0" x2="0" y2="6" class="stroke-rule" stroke-width="2.5" />
      </pattern>
      <linearGradient id="wing" x1="0" y1="0" x2="1" y2="0">
        <stop offset="0" stop-color="#0b7a75" />
        <stop offset="1" stop-color="#5b3fa0" />
      </linearGradient>
    </defs>
    <g
      v-for="b in blocks"
      :key="b.v.number"
      role="button"
      tabindex="0"
      class="cursor-pointer"
      :aria-label="label(b.v)"
      :aria-pressed="picked.includes(b.v.number)"
      @click="emit('pick', b.v.number)"
      @keydown.enter.prevent="emit('pick', b.v.number)"
      @keydown.space.prevent="emit('pick', b.v.number)"
    >
      <title>{{ label(b.v) }}</title>
      <rect
        v-if="b.width > b.seen"
        :x="b.left + b.seen"
        :y="HEIGHT - b.tall"
        :width="b.width - b.seen"
        :height="b.tall"
        fill="url(#unknown)"
      />
      <rect
        :x="b.left"
        :y="HEIGHT - b.tall"
        :width="Math.min(b.seen, b.width)"
        :height="b.tall"
        :fill="picked.includes(b.v.number) ? 'url(#wing)' : 'currentColor'"
        :class="picked.includes(b.v.number) ? '' : 'text-teal opacity-45'"
      />
      <rect v-if="b.v.baseline" :x="b.left" :y="HEIGHT - b.tall - 7" :width="b.width" height="4" class="fill-violet" />
    </g>
  </svg>
</template>
