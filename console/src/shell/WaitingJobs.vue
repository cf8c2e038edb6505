<script setup lang="ts">
import { computed } from 'vue'
import { countdown, useLeft } from '../composables/time'
import ActionMenu from '../design/ActionMenu.vue'
import { useWaiting } from '../jobs/waiting'

// What waits for a person, on every page: pushes to be confirmed, restarts, approvals.
const { data } = useWaiting()
const all = computed(() => (data.value ?? []).filter((j) => j.awaits && j.awaits !== 'start' && !j.decision))
const left = useLeft(
  () =>
    all.value
      .map((j) => j.due ?? '')
      .filter(Boolean)
      .sort()[0],
)
const words: Record<string, string> = {
  confirm: 'to be confirmed',
  restart: 'for its restart',
  approval: 'for approval',
  agreement: 'for approval',
}
const deeds = computed(() =>
  all.value.map((j) => ({
    label: `${j.kind === 'planned' ? 'push' : j.kind} of ${j.device} waits ${words[j.awaits ?? ''] ?? ''}`.trim(),
    to: '/jobs/' + j.id,
  })),
)
const label = computed(
  () => `${all.value.length} ${all.value.length === 1 ? 'waits' : 'wait'}${left.value === undefined ? '' : ' ' + countdown(left.value)}`,
)
</script>

<template>
  <span v-if="all.length" class="rounded border-2 border-violet"><ActionMenu :label="label" small :deeds="deeds" /></span>
</template>
