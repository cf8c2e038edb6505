<script setup lang="ts">
import type { Schemas } from '../api/call'

// What came of telling somebody that this is a test, step by step.
defineProps<{ tested: Schemas['Tested'] }>()
</script>

<template>
  <ol class="card divide-y divide-rule" aria-label="Steps of the test" role="status">
    <li v-for="(s, i) in tested.steps" :key="i" class="flex flex-wrap gap-x-3 px-3 py-1">
      <span :class="s.ok ? 'text-teal' : 'text-alarm'">{{ s.ok ? '✓' : '✗' }} {{ s.step }}</span>
      <span :class="s.ok ? 'text-faded' : 'text-alarm'">{{ s.says }}</span>
    </li>
  </ol>
  <p class="mt-2">{{ tested.ok ? 'It was told.' : 'It was not told: the last step failed.' }}</p>
</template>
