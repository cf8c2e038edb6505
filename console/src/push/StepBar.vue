<script setup lang="ts">
import type { RouteLocationRaw } from 'vue-router'

// Where a push stands, from the choice to the proof.
defineProps<{ at: number; to?: (RouteLocationRaw | undefined)[] }>()
const steps = ['Choose', 'Preview and safety', 'Go', 'Proof']
</script>

<template>
  <ol class="mb-3 flex gap-1 text-xs" aria-label="Steps of a push">
    <li
      v-for="(s, i) in steps"
      :key="s"
      class="min-w-0 grow border-t-2 pt-0.5"
      :class="i <= at ? 'border-violet' : 'border-rule text-faded'"
      :aria-current="i === at ? 'step' : undefined"
    >
      <RouterLink v-if="to?.[i]" :to="to[i]!">{{ s }}</RouterLink><span v-else :class="i === at ? 'font-semibold' : ''">{{ s }}</span>
    </li>
  </ol>
</template>
