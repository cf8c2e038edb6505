<script setup lang="ts">
import type { RouteLocationRaw } from 'vue-router'

// Facts, each a word and what it is. Those that say nothing are left out. One that is
// more than text is a slot of its word.
export interface Fact {
  word: string
  says?: string | number
  to?: RouteLocationRaw
  mono?: boolean
}
defineProps<{ facts: Fact[]; bare?: boolean }>()
</script>

<template>
  <dl class="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1" :class="bare ? '' : 'card p-3'">
    <template v-for="f in facts.filter((x) => $slots[x.word] || (x.says !== undefined && x.says !== ''))" :key="f.word">
      <dt class="text-faded">{{ f.word }}</dt>
      <dd class="min-w-0 break-words" :class="f.mono ? 'mono break-all' : ''">
        <slot :name="f.word"
          ><RouterLink v-if="f.to" :to="f.to">{{ f.says }}</RouterLink
          ><template v-else>{{ f.says }}</template></slot
        >
      </dd>
    </template>
  </dl>
</template>
