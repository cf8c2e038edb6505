<script setup lang="ts">
import { computed } from 'vue'
import FactList from '../design/FactList.vue'

// What a job has led to, of kinds that have no view of their own here.
const props = defineProps<{ result: unknown }>()
const words = (v: unknown) => (typeof v === 'object' ? JSON.stringify(v) : String(v))
const facts = computed(() =>
  typeof props.result === 'object' && props.result
    ? Object.entries(props.result).map(([word, v]) => ({ word, says: words(v) }))
    : [{ word: 'result', says: words(props.result) }],
)
</script>

<template>
  <FactList :facts="facts" aria-label="What it led to" />
</template>
