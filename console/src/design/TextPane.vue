<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useKeys } from '../composables/keys'
import FindBar from './FindBar.vue'
import { LINE, useAnchor, useFind, useLines } from './pane'

// A text with its line numbers: blocks fold, comments are faded, each line can be
// linked to. What is known of a line besides, as since when it is so, is a slot.
const props = defineProps<{ label: string; text: string; blocks?: number[][]; comments?: number[] }>()
const lines = computed(() => props.text.replace(/\r?\n$/, '').split(/\r?\n/))
const faded = computed(() => new Set(props.comments))
const ends = computed(() => new Map((props.blocks ?? []).map(([a, b]) => [a, b])))
const folded = ref(new Set<number>())
watch(
  () => props.text,
  () => (folded.value = new Set()),
)

// The lines that are shown: all but those inside a folded block.
const shown = computed(() => {
  const out: number[] = []
  for (let n = 1; n <= lines.value.length; n++) {
    out.push(n)
    if (folded.value.has(n)) n = ends.value.get(n) ?? n
  }
  return out
})
function fold(n: number) {
  const now = new Set(folded.value)
  if (!now.delete(n)) now.add(n)
  folded.value = now
}
const outer = computed(() => {
  let end = 0
  return (props.blocks ?? []).filter(([a, b]) => a > end && ((end = b), true)).map(([a]) => a)
})
const foldAll = () => (folded.value = folded.value.size ? new Set() : new Set(outer.value))

const scroller = ref<HTMLElement>()
const { virtual, top, goTo } = useLines(() => shown.value.length, scroller)
// reveal opens what a line is folded into, and goes there.
function reveal(n: number) {
  const hides = [...folded.value].filter((a) => n > a && n <= (ends.value.get(a) ?? a))
  if (hides.length) folded.value = new Set([...folded.value].filter((a) => !hides.includes(a)))
  requestAnimationFrame(() => goTo(shown.value.indexOf(n)))
}
const { range, point } = useAnchor('L')
const marked = (n: number) => !!range.value && n >= range.value[0] && n <= range.value[1]
onMounted(() => range.value && reveal(range.value[0]))
const find = useFind(
  () => lines.value,
  (i) => reveal(i + 1),
)
// The blocks around the first line in sight.
const path = computed(() => {
  const n = shown.value[top.value] ?? 1
  return (props.blocks ?? []).filter(([a, b]) => a < n && b >= n).map(([a]) => lines.value[a - 1].trim())
})
useKeys([{ keys: 'z', does: 'fold and unfold the blocks', run: foldAll }])
defineExpose({ reveal })
</script>

<template>
  <div class="card min-w-0 overflow-hidden">
    <div class="flex flex-wrap items-center gap-2 border-b border-rule bg-leaf px-2 py-1">
      <span class="mono min-w-0 grow basis-40 truncate">{{ path.length ? 'in ' + path.join(' / ') : 'at the top' }}</span>
      <FindBar :find="find" />
      <button v-if="outer.length" type="button" class="button is-small" @click="foldAll">{{ folded.size ? 'Unfold' : 'Fold' }}</button>
      <slot name="deeds" />
    </div>
    <div ref="scroller" class="tall-pane mono overflow-auto" tabindex="0" role="region" :aria-label="label">
      <div class="relative min-w-max" :style="{ height: virtual.getTotalSize() + 'px' }">
        <div
          v-for="(v, slot) in virtual.getVirtualItems()"
          :key="slot"
          class="absolute left-0 flex w-full"
          :class="[faded.has(shown[v.index]) ? 'text-faded italic' : '', marked(shown[v.index]) ? 'bg-marked' : '']"
          :style="{ transform: `translateY(${v.start}px)`, height: LINE + 'px' }"
        >
          <button
            type="button"
            tabindex="-1"
            class="line-number"
            :aria-label="'link to line ' + shown[v.index]"
            @click="point(shown[v.index], $event.shiftKey)"
          >
            {{ shown[v.index] }}
          </button>
          <slot name="beside" :line="shown[v.index]" />
          <button
            v-if="ends.has(shown[v.index])"
            type="button"
            tabindex="-1"
            class="w-4 shrink-0 cursor-pointer text-faded select-none"
            :aria-label="(folded.has(shown[v.index]) ? 'unfold' : 'fold') + ' from line ' + shown[v.index]"
            @click="fold(shown[v.index])"
          >
            {{ folded.has(shown[v.index]) ? '▸' : '▾' }}
          </button>
          <span v-else class="w-4 shrink-0"></span>
          <span class="pr-4 whitespace-pre"
            ><template v-for="(p, i) in find.cut(lines[shown[v.index] - 1])" :key="i"
              ><mark v-if="i % 2" class="found">{{ p }}</mark
              ><template v-else>{{ p }}</template></template
            ></span
          >
          <span v-if="folded.has(shown[v.index])" class="rounded border border-rule px-1 text-faded not-italic"
            >{{ ends.get(shown[v.index])! - shown[v.index] }} lines</span
          >
        </div>
      </div>
    </div>
  </div>
</template>
