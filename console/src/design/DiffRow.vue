<script setup lang="ts">
import { computed } from 'vue'
import { pieces, type Row } from './diff'

// One row of a comparison: one line, or two that face each other.
const props = defineProps<{ row: Row; beside?: boolean; here: boolean }>()
defineEmits<{ point: [] }>()
const sides = computed(() => {
  const { left, right } = props.row
  if (props.row.fold) return []
  return props.beside ? [left, right] : [left ?? right]
})
const paint = { add: 'bg-added text-added-ink', remove: 'bg-gone text-gone-ink', same: '', none: 'bg-leaf' }
const sign = { add: '+', remove: '−', same: ' ', none: '¶' }
</script>

<template>
  <div class="absolute left-0 flex w-full" :class="{ 'outline-violet': here && row.first, 'bg-leaf text-faded': row.fold }">
    <span v-if="row.fold" class="pl-26">⋯ {{ row.fold }}</span>
    <div
      v-for="(l, k) in sides"
      :key="k"
      class="flex"
      :class="[paint[l?.op ?? 'none'], beside ? 'w-1/2 min-w-0 border-rule not-first:border-l' : 'min-w-full']"
    >
      <span class="diff-number">{{ k ? l?.to : l?.from }}</span>
      <span v-if="!beside" class="diff-number">{{ l?.to }}</span>
      <button
        v-if="row.first && k === 0"
        type="button"
        tabindex="-1"
        class="w-5 shrink-0 cursor-pointer text-center select-none hover:text-violet"
        :aria-label="'link to change ' + row.change"
        @click="$emit('point')"
      >
        {{ sign[l?.op ?? 'none'] }}</button><span v-else class="w-5 shrink-0 text-center select-none">{{ l ? sign[l.op] : '' }}</span>
      <span v-if="l" class="whitespace-pre" :class="beside ? 'overflow-hidden text-ellipsis' : 'pr-4'" :title="beside ? l.text : undefined"
        ><template v-if="!l.marks?.length">{{ l.text }}</template
        ><template v-for="(p, i) in pieces(l)" v-else :key="i"
          ><mark v-if="p.marked" class="rounded-xs text-inherit" :class="l.op === 'add' ? 'bg-added-mark' : 'bg-gone-mark'">{{
            p.text
          }}</mark
          ><template v-else>{{ p.text }}</template></template
        ></span
      >
    </div>
  </div>
</template>
