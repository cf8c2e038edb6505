<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import type { Preview } from '../api/call'
import { useLines } from '../design/pane'

// What is sent, in its order. While it is, each line that was is ticked.
const props = defineProps<{ preview: Preview; sent?: number; refused?: number }>()
const rows = computed(() =>
  props.preview.steps.flatMap((s, i) =>
    s.lines
      .join('\n')
      .split('\n')
      .map((text, k) => ({ s, i, text, first: k === 0 })),
  ),
)
const whole = computed(() => ['load', 'stage', 'restart'].includes(props.preview.steps[0]?.kind))
const ink: Record<string, string> = { set: 'text-added-ink bg-added', remove: 'text-gone-ink bg-gone', leave: 'text-faded' }
const sign: Record<string, string> = { set: '+', remove: '−' }
const scroller = ref<HTMLElement>()
const { virtual, goTo } = useLines(() => rows.value.length, scroller)
watch(
  () => props.sent,
  (n) => void nextTick(() => n && goTo(rows.value.findIndex((r) => r.i >= n - 1))),
)
const tick = (i: number) => (props.sent === undefined ? '' : i + 1 === props.refused ? '✗' : i < props.sent ? '✓' : '')
</script>

<template>
  <div ref="scroller" class="card mono max-h-[46dvh] overflow-auto py-1 leading-5" tabindex="0" role="region" aria-label="Lines to send">
    <ol class="relative min-w-max" :style="{ height: virtual.getTotalSize() + 'px' }">
      <li
        v-for="(v, slot) in virtual.getVirtualItems()"
        :key="slot"
        class="absolute left-0 flex h-5 w-full"
        :class="ink[rows[v.index].s.kind]"
        :style="{ transform: `translateY(${v.start}px)` }"
      >
        <span v-if="sent !== undefined" class="w-5 shrink-0 text-center" :aria-label="tick(rows[v.index].i) ? 'sent' : undefined">{{
          rows[v.index].first ? tick(rows[v.index].i) : ''
        }}</span>
        <span class="w-10 shrink-0 pr-3 text-right text-faded select-none">{{ rows[v.index].first ? rows[v.index].i + 1 : '' }}</span>
        <span class="w-4 shrink-0 select-none">{{ sign[rows[v.index].s.kind] }}</span>
        <span class="pr-4 whitespace-pre"
          ><b v-if="whole && rows[v.index].first" class="font-semibold">{{ rows[v.index].s.kind }}&nbsp;</b
          >{{ '  '.repeat(rows[v.index].s.depth) + rows[v.index].text }}</span
        ><i v-if="rows[v.index].s.assumed" class="pr-2 text-faded">assumed</i>
      </li>
    </ol>
  </div>
</template>
