<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { computed } from 'vue'
import { now, zone } from '../composables/time'
import { HOUR, tide, type Item } from './tide'

// A day by its hours: how many devices are looked after in each, as the height of a tide;
// what is over is filled, what is to come is outlined.
const props = defineProps<{ items: Item[]; from: number }>()
const hours = computed(() => tide(props.items, props.from))
const total = (h: (typeof hours.value)[number]) => h.done + h.bad + h.due
const most = computed(() => Math.max(1, ...hours.value.map(total)))
const phone = useMediaQuery('(max-width: 639px)')
const W = computed(() => (phone.value ? 15 : 40))
const H = 110
const y = (n: number) => (n / most.value) * H
const line = computed(() => ((now.value - props.from) / HOUR) * W.value)
const round = (n: number) => Math.round(n * 10) / 10
const said = (h: (typeof hours.value)[number]) =>
  [
    `${new Date(h.at).getHours()}:00`,
    h.done && `${round(h.done)} done`,
    h.bad && `${round(h.bad)} with trouble`,
    h.due && `${round(h.due)} due`,
    h.left && 'something left out',
  ]
    .filter(Boolean)
    .join(', ')
const label = computed(
  () =>
    hours.value
      .filter((h) => total(h) || h.left)
      .map(said)
      .join('; ') || 'nothing',
)
</script>

<template>
  <figure class="card p-3">
    <svg :viewBox="`0 0 ${24 * W} ${H + 34}`" class="w-full" role="img" :aria-label="'Devices by the hour: ' + label">
      <defs>
        <pattern id="to-come" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" class="fill-paper" />
          <rect width="2" height="6" class="fill-violet" opacity="0.55" />
        </pattern>
      </defs>
      <g v-for="(h, i) in hours" :key="h.at">
        <title>{{ said(h) }}</title>
        <rect :x="i * W" y="0" :width="W" :height="H + 16" fill="transparent" />
        <line v-if="i % 6 === 0" :x1="i * W" :x2="i * W" y1="8" :y2="H + 16" class="stroke-rule" />
        <rect v-if="h.done" :x="i * W + W / 12" :width="(W * 5) / 6" :y="H + 16 - y(h.done)" :height="y(h.done)" class="fill-teal" />
        <rect
          v-if="h.bad"
          :x="i * W + W / 12"
          :width="(W * 5) / 6"
          :y="H + 16 - y(h.done + h.bad)"
          :height="y(h.bad)"
          class="fill-gone-ink"
        />
        <rect
          v-if="h.due"
          :x="i * W + W / 12"
          :width="(W * 5) / 6"
          :y="H + 16 - y(total(h))"
          :height="y(h.due)"
          fill="url(#to-come)"
          class="stroke-violet"
        />
        <text v-if="total(h)" :x="i * W + W / 2" :y="H + 12 - y(total(h))" text-anchor="middle" class="fill-ink text-[11px]">
          {{ Math.max(1, Math.round(total(h))) }}
        </text>
        <text v-else-if="h.left" :x="i * W + W / 2" :y="H + 11" text-anchor="middle" class="fill-faded text-[13px]">○</text>
        <text v-if="i % (phone ? 6 : 3) === 0" :x="i * W + 3" :y="H + 30" class="fill-faded text-[11px]">
          {{ String(i).padStart(2, '0') }}:00
        </text>
      </g>
      <line x1="0" :x2="24 * W" :y1="H + 16" :y2="H + 16" class="stroke-faded" />
      <g v-if="line > 0 && line < 24 * W">
        <line :x1="line" :x2="line" y1="0" :y2="H + 16" class="stroke-alarm" stroke-width="1.5" />
        <text :x="line - 4" y="9" text-anchor="end" class="fill-alarm text-[11px]">now</text>
      </g>
    </svg>
    <figcaption class="flex flex-wrap gap-x-3 text-xs text-faded">
      <span><span class="text-teal">■</span> looked after</span><span><span class="text-gone-ink">■</span> with trouble</span>
      <span><span class="text-violet">▨</span> due</span><span>○ left out</span><span class="grow"></span
      ><span>devices by the hour, {{ zone }}</span>
    </figcaption>
  </figure>
</template>
