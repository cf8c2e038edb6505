<script setup lang="ts">
import { computed } from 'vue'
import type { Checked, Finding } from '../api/call'
import DataTable from '../design/DataTable.vue'
import type { Column } from '../design/table'

// What was good before and is good after, side by side; of several devices with their names.
type Row = Checked & { device?: string }
const props = defineProps<{ checks: Row[] }>()
const word = (f?: Finding) => (!f ? '' : !f.known ? 'not known' : f.good ? 'good' : 'bad')
const mark = (f?: Finding) => (!f ? '' : !f.known ? '?' : f.good ? '✓' : '✗')
const columns = computed<Column<Row>[]>(() => [
  ...(props.checks.some((c) => c.device)
    ? [{ id: 'device', label: 'Device', value: (c: Row) => c.device ?? '', width: 'minmax(8rem, 0.8fr)' }]
    : []),
  { id: 'check', label: 'Check', value: (c) => c.check, width: 'minmax(10rem, 1.2fr)' },
  { id: 'was', label: 'Was', value: (c) => word(c.before), width: '7rem' },
  { id: 'is', label: 'Is', value: (c) => word(c.after), width: '7rem' },
  { id: 'answer', label: 'Answer', width: 'minmax(10rem, 1fr)' },
])
</script>

<template>
  <DataTable name="Checks" :columns="columns" :rows="checks" :row-id="(c: Row) => (c.device ?? '') + ' ' + c.check">
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
