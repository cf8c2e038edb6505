<script setup lang="ts">
import { computed } from 'vue'
import { post, type Job, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { countdown, useLeft } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import ProblemNote from '../design/ProblemNote.vue'
import StateMark from '../design/StateMark.vue'
import type { Column } from '../design/table'
import RestoreForm from './RestoreForm.vue'
import { useWaiting } from './waiting'

// What putting many devices back would take, or how they came out.
type Row = Schemas['RestorePreviewRow']
type Done = Schemas['Restored']
const props = defineProps<{ job: Job; may: boolean }>()
const waiting = computed(() => props.job.restore?.rows.filter((r) => r.outcome === 'waiting').length ?? 0)
const { data: all } = useWaiting()
// The first of its pushes that goes back by itself.
const left = useLeft(() => {
  const own = new Set(props.job.restore?.rows.map((r) => r.job))
  return all.value
    ?.filter((j) => own.has(j.id) && j.due)
    .map((j) => j.due!)
    .sort()[0]
})
const { busy, trouble, attempt } = useAttempt()
const decide = (what: 'confirm' | 'undo') => attempt(() => post('/jobs/' + encodeURIComponent(props.job.id) + '/' + what))
const rows: Column<Row>[] = [
  { id: 'device', label: 'Device, in this order', value: (r) => r.device, width: 'minmax(8rem, 1fr)' },
  { id: 'target', label: 'To run', value: (r) => r.target ?? '', width: 'minmax(9rem, 1fr)' },
  { id: 'takes', label: 'What it takes', width: 'minmax(12rem, 3fr)' },
]
const ends: Column<Done>[] = [
  { id: 'device', label: 'Device', value: (r) => r.device, width: 'minmax(8rem, 1fr)' },
  { id: 'outcome', label: 'Came out', value: (r) => r.outcome, width: 'minmax(7rem, 1fr)' },
  { id: 'summary', label: 'What it says', width: 'minmax(12rem, 3fr)' },
]
</script>

<template>
  <template v-if="job.restore_preview">
    <DataTable name="What it takes" :columns="rows" :rows="job.restore_preview.rows" :row-id="(r: Row) => r.device">
      <template #device="{ row: r }"
        ><RouterLink :to="'/devices/' + r.device">{{ r.device }}</RouterLink></template
      >
      <template #takes="{ row: r }">
        <span v-if="r.skip" :class="r.refused ? 'text-alarm' : 'text-faded'">{{ r.skip }}</span>
        <template v-else>
          <RouterLink :to="'/push/' + r.preview">{{ r.lines }} {{ r.lines === 1 ? 'line' : 'lines' }} to send</RouterLink>
          <p v-for="w in r.warnings" :key="w" class="text-alarm">Warning: {{ w }}</p>
        </template>
      </template>
    </DataTable>
    <RestoreForm v-if="may" :job="job" />
  </template>
  <template v-if="job.restore">
    <div v-if="may && waiting" class="card flex flex-wrap items-center gap-3 border-2 border-violet p-3">
      <p v-if="left !== undefined" class="font-mono text-3xl font-semibold tabular-nums" role="timer">{{ countdown(left) }}</p>
      <p class="grow font-semibold">
        {{ waiting }} {{ waiting === 1 ? 'push waits to be confirmed and goes' : 'pushes wait to be confirmed and go' }} back by
        {{ waiting === 1 ? 'itself' : 'themselves, the first' }} then.
      </p>
      <AppButton main :busy="busy" @click="decide('confirm')">Keep all</AppButton>
      <AppButton :busy="busy" @click="decide('undo')">Undo all</AppButton>
    </div>
    <DataTable name="How they came out" :columns="ends" :rows="job.restore.rows" :row-id="(r: Done) => r.device">
      <template #device="{ row: r }"
        ><RouterLink :to="r.job ? '/jobs/' + r.job : '/devices/' + r.device">{{ r.device }}</RouterLink></template
      >
      <template #outcome="{ row: r }"><StateMark :state="r.outcome" /></template>
      <template #summary="{ row: r }">{{ r.summary }}</template>
    </DataTable>
  </template>
  <ProblemNote :error="trouble" />
</template>
