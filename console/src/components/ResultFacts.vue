<script setup lang="ts">
import { computed } from 'vue'

// What a job has led to, of kinds that have no view of their own here.
const props = defineProps<{ result: unknown }>()
const facts = computed(() =>
  typeof props.result === 'object' && props.result ? Object.entries(props.result) : [['result', props.result] as [string, unknown]],
)
const words = (v: unknown) => (typeof v === 'object' ? JSON.stringify(v) : String(v))
</script>

<template>
  <dl class="card mb-4 grid grid-cols-[auto_1fr] gap-x-6 gap-y-1 p-3" aria-label="What it led to">
    <template v-for="[name, value] in facts" :key="name">
      <dt class="text-faded">{{ name }}</dt>
      <dd>{{ words(value) }}</dd>
    </template>
  </dl>
</template>
