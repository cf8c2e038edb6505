<script setup lang="ts">
import { computed } from 'vue'
import { now } from '../composables/time'
import TimeMark from './TimeMark.vue'

// How long ago something was, as a word and as a bar: full is fresh, empty is old, by
// the span in which it should have been again.
const props = defineProps<{ at?: string | null; days: number }>()
const fresh = computed(() => (props.at ? Math.max(0, 1 - (now.value - new Date(props.at).getTime()) / (props.days * 86400000)) : 0))
const width = computed(() => `${Math.round(fresh.value * 100)}%`)
</script>

<template>
  <span class="grid gap-0.5">
    <TimeMark :at="at" />
    <span class="h-1 w-full max-w-20 rounded bg-rule" aria-hidden="true"
      ><span class="block h-1 rounded" :class="fresh > 0 ? 'bg-teal' : ''" :style="{ width }"></span
    ></span>
  </span>
</template>
