<script setup lang="ts">
import { pieces, type Row } from './diff'

// One row of a comparison: one line, or two that face each other.
defineProps<{ row: Row; here: boolean }>()
defineEmits<{ point: [] }>()
const paint = { add: 'bg-added text-added-ink', remove: 'bg-gone text-gone-ink', same: '', none: 'bg-leaf' }
const sign = { add: '+', remove: '−', same: ' ', none: ' ' }
</script>

<template>
  <div class="absolute left-0 flex w-full" :class="{ 'outline-violet': here && row.first, 'bg-leaf text-faded': row.fold }">
    <span v-if="row.fold" class="pl-26">⋯ {{ row.fold }}</span>
    <template v-for="(h, k) in row.halves" :key="k">
      <div class="flex" :class="[paint[h.op], row.halves.length > 1 ? 'w-1/2 min-w-0 border-rule not-first:border-l' : 'min-w-full']">
        <template v-if="row.halves.length === 1"
          ><span class="diff-number">{{ row.from }}</span
          ><span class="diff-number">{{ row.to }}</span></template
        ><span v-else class="diff-number">{{ h.n }}</span>
        <button
          v-if="row.first && k === 0"
          type="button"
          tabindex="-1"
          class="w-5 shrink-0 cursor-pointer text-center select-none hover:text-violet"
          :aria-label="'link to change ' + row.change"
          @click="$emit('point')"
        >
          {{ sign[h.op] === ' ' ? '¶' : sign[h.op] }}</button><span v-else class="w-5 shrink-0 text-center select-none">{{
          sign[h.op]
        }}</span>
        <span
          class="whitespace-pre"
          :class="row.halves.length > 1 ? 'overflow-hidden text-ellipsis' : 'pr-4'"
          :title="row.halves.length > 1 ? h.text : undefined"
          ><template v-for="(p, i) in pieces(h)" :key="i"
            ><mark v-if="p.marked" class="rounded-xs text-inherit" :class="h.op === 'add' ? 'bg-added-mark' : 'bg-gone-mark'">{{
              p.text
            }}</mark
            ><template v-else>{{ p.text }}</template></template
          ></span
        >
      </div>
    </template>
  </div>
</template>
