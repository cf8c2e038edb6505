<script setup lang="ts">
import type { Checked, Finding } from '../api/call'
import DataTable from '../design/DataTable.vue'
import type { Column } from '../design/table'

// What was good before a push and is good after it, side by side.
defineProps<{ checks: Checked[] }>()
const word = (f?: Finding) => (!f ? '' : !f.known ? 'not known' : f.good ? 'good' : 'bad')
const mark = (f?: Finding) => (!f ? '' : !f.known ? '?' : f.good ? '✓' : '✗')
const columns: Column<Checked>[] = [
  { id: 'check', label: 'Check', value: (c) => c.check, width: 'minmax(10rem, 1.2fr)' },
  { id: 'was', label: 'Was', value: (c) => word(c.before), width: '7rem' },
  { id: 'is', label: 'Is', value: (c) => word(c.after), width: '7rem' },
  { id: 'answer', label: 'Answer', width: 'minmax(10rem, 1fr)' },
]
</script>

<template>
  <DataTable name="Checks" :columns="columns" :rows="checks" :row-id="(c: Checked) => c.check">
    <template #check="{ row: c }"
      ><span class="mono" :class="c.failed ? 'text-alarm' : ''">{{ c.check }}</span></template
    >
    <template #was="{ row: c }"
      ><span aria-hidden="true">{{ mark(c.before) }}</span> {{ word(c.before) }}</template
    >
    <template #is="{ row: c }"
      ><span :class="c.failed ? 'font-semibold text-alarm' : ''"
        ><span aria-hidden="true">{{ mark(c.after) }}</span> {{ word(c.after) }}</span
      ></template
    >
    <template #answer="{ row: c }">{{ (c.after ?? c.before)?.said }}</template>
  </DataTable>
</template>
