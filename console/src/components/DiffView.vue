<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, ref } from 'vue'
import type { Diff } from '../api/call'
import { useKeys } from '../composables/keys'

const props = defineProps<{ diff: Diff; unfolded: boolean }>()
defineEmits<{ unfold: [] }>()

interface Row {
  kind: 'fold' | 'same' | 'add' | 'remove'
  text: string
  from?: number
  to?: number
  marks?: number[][]
  block: string
  first?: boolean // of a run of changes
}

const rows = computed<Row[]>(() => {
  const out: Row[] = []
  let at = 1
  for (const h of props.diff.hunks) {
    if (h.from > at) out.push({ kind: 'fold', text: `${h.from - at} unchanged lines`, block: h.block ?? '' })
    let changed = false
    for (const l of h.lines) {
      const now = l.op !== 'same'
      out.push({ kind: l.op, text: l.text, from: l.from, to: l.to, marks: l.marks, block: h.block ?? '', first: now && !changed })
      changed = now
    }
    at = h.from + h.from_lines
  }
  return out
})
const changes = computed(() => rows.value.flatMap((r, i) => (r.first ? [i] : [])))

const scroller = ref<HTMLElement>()
const virtual = useVirtualizer(
  computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value ?? null, estimateSize: () => 20, overscan: 20 })),
)
const block = computed(() => {
  const top = virtual.value.getVirtualItems().find((v) => v.end > (virtual.value.scrollOffset ?? 0))
  return top ? rows.value[top.index]?.block : ''
})

const here = ref(-1)
function jump(step: number) {
  if (!changes.value.length) return
  here.value = Math.min(Math.max(here.value + step, 0), changes.value.length - 1)
  virtual.value.scrollToIndex(Math.max(changes.value[here.value] - 3, 0), { align: 'start' })
}
useKeys([
  { keys: 'n', does: 'next change', run: () => jump(1) },
  { keys: 'p', does: 'previous change', run: () => jump(-1) },
])

// Marks are offsets in UTF-8 bytes; the text is cut accordingly.
function pieces(r: Row): { text: string; marked: boolean }[] {
  if (!r.marks?.length) return [{ text: r.text, marked: false }]
  const bytes = new TextEncoder().encode(r.text)
  const cut = (a: number, b: number) => new TextDecoder().decode(bytes.slice(a, b))
  const out = []
  let at = 0
  for (const [a, b] of r.marks) {
    if (a > at) out.push({ text: cut(at, a), marked: false })
    out.push({ text: cut(a, b), marked: true })
    at = b
  }
  if (at < bytes.length) out.push({ text: cut(at, bytes.length), marked: false })
  return out
}
const paint = { add: 'bg-added text-added-ink', remove: 'bg-gone text-gone-ink', same: '', fold: 'bg-leaf text-faded' }
const sign = { add: '+', remove: '−', same: ' ', fold: '⋯' }
</script>

<template>
  <div class="card overflow-hidden">
    <div class="flex flex-wrap items-center gap-3 border-b border-rule bg-leaf px-3 py-1.5">
      <span class="min-w-0 grow truncate font-mono text-[13px]" aria-live="polite">{{ block ? 'in ' + block : 'at the top' }}</span>
      <span class="text-faded"
        >{{ here >= 0 ? here + 1 + ' of ' : '' }}{{ changes.length }} {{ changes.length === 1 ? 'change' : 'changes' }}</span
      >
      <button type="button" class="button" @click="jump(-1)">Previous <kbd>p</kbd></button>
      <button type="button" class="button" @click="jump(1)">Next <kbd>n</kbd></button>
      <button type="button" class="button" @click="$emit('unfold')">{{ unfolded ? 'Fold' : 'Unfold' }}</button>
    </div>
    <div ref="scroller" class="h-[62dvh] overflow-auto font-mono text-[13px] leading-5" tabindex="0" role="region" aria-label="Comparison">
      <div class="relative min-w-max" :style="{ height: virtual.getTotalSize() + 'px' }">
        <div
          v-for="v in virtual.getVirtualItems()"
          :key="v.index"
          class="absolute left-0 flex h-5 w-full"
          :class="paint[rows[v.index].kind]"
          :style="{ transform: `translateY(${v.start}px)` }"
        >
          <span class="w-12 shrink-0 pr-2 text-right text-faded select-none">{{ rows[v.index].from || '' }}</span>
          <span class="w-12 shrink-0 pr-2 text-right text-faded select-none">{{ rows[v.index].to || '' }}</span>
          <span class="w-5 shrink-0 text-center select-none">{{ sign[rows[v.index].kind] }}</span>
          <span class="whitespace-pre"
            ><template v-for="(p, i) in pieces(rows[v.index])" :key="i"
              ><mark
                v-if="p.marked"
                class="rounded-xs text-inherit"
                :class="rows[v.index].kind === 'add' ? 'bg-added-mark' : 'bg-gone-mark'"
                >{{ p.text }}</mark
              ><template v-else>{{ p.text }}</template></template
            ></span
          >
        </div>
      </div>
    </div>
  </div>
</template>
