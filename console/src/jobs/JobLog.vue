<script setup lang="ts">
import type { Entry } from '../api/call'

defineProps<{ log: Entry[] }>()
const clock = (t: string) => new Date(t).toLocaleTimeString('sv-SE')
const ink = (kind: string) =>
  ({
    step: 'font-semibold',
    trouble: 'text-alarm font-semibold',
    warning: 'text-gone-ink',
    line: 'font-mono text-[13px]',
    kept: 'font-mono text-[13px] text-faded',
  })[kind] ?? ''
</script>

<template>
  <ol class="card overflow-x-auto p-2" aria-label="Log" aria-live="polite">
    <li v-for="e in log.filter((x) => x.kind !== 'end')" :key="e.seq" class="flex gap-3 px-1">
      <time class="shrink-0 font-mono text-[13px] text-faded" :datetime="e.at">{{ clock(e.at) }}</time>
      <span class="whitespace-pre-wrap" :class="ink(e.kind)">{{ e.text }}</span>
    </li>
    <li v-if="!log.length" class="text-faded">Nothing yet.</li>
  </ol>
</template>
