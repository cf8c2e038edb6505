<script setup lang="ts">
import { useRouter } from 'vue-router'
import { type Job } from '../api/call'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import StateMark from '../design/StateMark.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { aboutMany, useKinds } from './kinds'

// Jobs, each with what came of it.
defineProps<{ jobs: Job[] }>()
const router = useRouter()
const { data: kinds } = useKinds()
const awaited = (j: Job) => kinds.value?.find((k) => k.name === j.kind)?.awaits.find((w) => w.for === j.awaits)?.means
const columns: Column<Job>[] = [
  { id: 'state', label: 'State', value: (j) => j.outcome || j.state, width: 'minmax(7rem, 0.8fr)', always: true, card: 'lead' },
  { id: 'kind', label: 'Kind', value: (j) => j.kind, width: 'minmax(6rem, 0.6fr)', always: true, card: 'lead' },
  { id: 'device', label: 'Device', value: (j) => j.device, width: 'minmax(8rem, 1fr)', card: 'lead' },
  { id: 'asked', label: 'Asked for', value: (j) => j.created_at, width: '9.5rem', first: 'down' },
  { id: 'actor', label: 'By', value: (j) => j.actor, width: 'minmax(8rem, 0.7fr)' },
  { id: 'summary', label: 'What came of it', width: 'minmax(12rem, 3fr)', card: 'bare' },
]
</script>

<template>
  <DataTable name="Jobs" :columns="columns" :rows="jobs" :row-id="(j: Job) => j.id" tall @open="(j: Job) => router.push('/jobs/' + j.id)">
    <template #state="{ row: j }"
      ><StateMark :state="j.outcome || j.state" /><span v-if="j.awaits" class="block text-faded">for {{ awaited(j) }}</span></template
    >
    <template #kind="{ row: j }"
      ><RouterLink :to="'/jobs/' + j.id" :aria-label="`${j.kind} of ${j.device}`">{{ j.kind }}</RouterLink></template
    >
    <template #device="{ row: j }"
      ><template v-if="aboutMany(j)">{{ j.device }}</template
      ><RouterLink v-else :to="'/devices/' + j.device">{{ j.device }}</RouterLink></template
    >
    <template #asked="{ row: j }"><TimeMark :at="j.created_at" exact /></template>
    <template #summary="{ row: j }"
      ><span class="line-clamp-3" :title="j.summary">{{ j.summary }}</span></template
    >
    <template #none><EmptyNote title="No jobs yet">Pull a device to make the first.</EmptyNote></template>
  </DataTable>
</template>
