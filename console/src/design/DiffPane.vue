<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, onMounted, ref, watch } from 'vue'
import type { Diff } from '../api/call'
import { useKeys } from '../composables/keys'
import { rowsOf } from './diff'
import DiffMap from './DiffMap.vue'
import DiffRow from './DiffRow.vue'
import { LINE, useAnchor, useLines } from './pane'

// A comparison, one below the other or side by side, of any length: where the changes
// are is drawn beside it, each can be linked to, keys go from one to the next.
const props = defineProps<{ diff: Diff; beside?: boolean; low?: boolean }>()
const rows = computed(() => rowsOf(props.diff, !!props.beside))
const changes = computed(() => rows.value.flatMap((r, i) => (r.first ? [i] : [])))
const scroller = ref<HTMLElement>()
const { virtual, top, goTo } = useLines(() => rows.value.length, scroller)
const { height } = useElementSize(scroller)
const block = computed(() => rows.value[top.value]?.block)

const { range, point } = useAnchor('c')
const here = ref(-1)
function go(i: number, pointing = true) {
  if (!changes.value.length) return
  here.value = Math.min(Math.max(i, 0), changes.value.length - 1)
  goTo(changes.value[here.value] - 3, 'start')
  if (pointing) point(here.value + 1)
}
onMounted(() => range.value && go(range.value[0] - 1, false))
watch(
  () => props.beside,
  () => here.value >= 0 && requestAnimationFrame(() => go(here.value, false)),
)
useKeys([
  { keys: 'n', does: 'next change', run: () => go(here.value + 1) },
  { keys: 'p', does: 'previous change', run: () => go(here.value - 1) },
])
</script>

<template>
  <div class="card min-w-0 overflow-hidden">
    <div class="flex flex-wrap items-center gap-2 border-b border-rule bg-leaf px-2 py-1">
      <span class="mono min-w-0 grow basis-40 truncate" aria-live="polite">{{ block ? 'in ' + block : 'at the top' }}</span>
      <span class="text-faded"
        >{{ here >= 0 ? here + 1 + ' of ' : '' }}{{ changes.length }} {{ changes.length === 1 ? 'change' : 'changes' }}</span
      >
      <button type="button" class="button is-small" @click="go(here - 1)">Previous <kbd>p</kbd></button>
      <button type="button" class="button is-small" @click="go(here + 1)">Next <kbd>n</kbd></button>
      <slot name="deeds" />
    </div>
    <div class="flex">
      <div
        ref="scroller"
        class="mono min-w-0 grow overflow-auto"
        :class="low ? 'max-h-[50dvh]' : 'tall-pane'"
        tabindex="0"
        role="region"
        aria-label="Comparison"
      >
        <div class="relative" :class="beside ? 'min-w-full' : 'min-w-max'" :style="{ height: virtual.getTotalSize() + 'px' }">
          <DiffRow
            v-for="(v, slot) in virtual.getVirtualItems()"
            :key="slot"
            :row="rows[v.index]"
            :beside="beside"
            :here="!!range && rows[v.index].change === range[0]"
            :style="{ transform: `translateY(${v.start}px)`, height: LINE + 'px' }"
            @point="go(rows[v.index].change - 1)"
          />
        </div>
      </div>
      <DiffMap v-if="!low" :rows="rows" :top="top" :sight="height / LINE" :height="height" @go="(i) => goTo(i)" />
    </div>
  </div>
</template>
