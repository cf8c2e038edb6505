<script setup lang="ts">
import { computed } from 'vue'

// A state's own shape and colour, with its word always beside it.
const props = defineProps<{ state: string; word?: string; also?: string }>()
const look = computed(() => {
  switch (props.state) {
    case 'in sync':
    case 'verified':
    case 'done':
    case 'sent':
      return { sign: '●', ink: 'text-teal' }
    case 'drifted':
    case 'differs':
      return { sign: '◆', ink: 'text-gone-ink' }
    case 'unsaved':
    case 'undone':
      return { sign: '◇', ink: 'text-gone-ink' }
    case 'running':
    case 'queued':
    case 'waiting':
    case 'due':
      return { sign: '◌', ink: 'text-violet' }
    case 'never pulled':
    case 'cancelled':
    case 'left out':
    case 'skipped':
    case 'not begun':
    case 'dropped':
    case 'paused':
      return { sign: '○', ink: 'text-faded' }
  }
  return { sign: '▲', ink: 'text-alarm' }
})
</script>

<template>
  <span class="whitespace-nowrap font-medium" :class="look.ink"
    ><span aria-hidden="true">{{ look.sign }}</span> {{ word || state }}<template v-if="also">, {{ also }}</template></span
  >
</template>
