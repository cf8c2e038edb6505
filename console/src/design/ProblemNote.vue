<script setup lang="ts">
import { computed } from 'vue'
import { ApiError } from '../api/call'

// Shows an error as the service words it, with what to do next.
const props = defineProps<{ error?: Error | null }>()
const next = computed(() => (props.error instanceof ApiError ? props.error.problem.next : undefined))
</script>

<template>
  <div v-if="error" role="alert" class="rounded border border-alarm bg-paper px-3 py-2">
    <p class="font-medium text-alarm">{{ error.message }}</p>
    <p v-if="next" class="mt-1">{{ next }}</p>
  </div>
</template>
