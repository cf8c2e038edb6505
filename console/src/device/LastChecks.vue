<script setup lang="ts">
import { computed } from 'vue'
import type { Job } from '../api/call'
import { when } from '../composables/time'
import EmptyNote from '../design/EmptyNote.vue'
import CheckTable from '../push/CheckTable.vue'
import { useSession } from '../session'
import MakeChecks from './MakeChecks.vue'

// The checks of a device now, and those of the pushes to it, newest first: what was good before and after.
const props = defineProps<{ jobs: Job[]; device: string }>()
const operator = useSession().may('operator')
const pushes = computed(() => props.jobs.filter((j) => j.push?.checks.length).slice(0, 10))
</script>

<template>
  <MakeChecks v-if="operator" class="mb-4 max-w-xl" :selector="[device]" />
  <section v-for="j in pushes" :key="j.id" class="mb-4">
    <h2 class="mb-1">
      <RouterLink :to="'/jobs/' + j.id">{{ when(j.created_at) }}</RouterLink>, {{ j.outcome || j.state }}
    </h2>
    <CheckTable :checks="j.push!.checks" />
  </section>
  <EmptyNote v-if="!pushes.length" title="No push to this device had checks yet">
    A push can try things before and after: whether a gateway answers, a neighbour is there, devices that hang on it are reached. Its
    preview suggests some.
  </EmptyNote>
</template>
