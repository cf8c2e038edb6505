<script setup lang="ts">
import type { Schemas } from '../api/call'
import DataTable from '../design/DataTable.vue'
import type { Column } from '../design/table'
import { did } from './rule'

// The lines that a rule hides, misses or does not want, in what devices run now.
type Line = Schemas['RuleLine']
const props = defineProps<{ found: Schemas['RuleFinds'] }>()
const columns: Column<Line>[] = [
  { id: 'device', label: 'Device', value: (l) => l.device },
  { id: 'block', label: 'In', value: (l) => l.block ?? '' },
  { id: 'line', label: 'Line', value: (l) => l.line, width: 'minmax(14rem, 2fr)' },
]
const count = (n: number, one: string) => `${n} ${one}${n === 1 ? '' : 's'}`
</script>

<template>
  <section :aria-label="'What ' + props.found.rule.name + ' finds'">
    <h2 class="mb-1 text-base">{{ found.rule.name }}</h2>
    <p class="mb-2 text-faded" role="status">
      {{ count(found.lines, 'line') }} {{ did[found.rule.kind] }} on {{ found.devices }} of {{ count(found.looked, 'device') }}
      <template v-if="found.unread.length">; not looked at: {{ found.unread.join(', ') }}</template>
    </p>
    <details v-if="found.text" class="mb-2">
      <summary>The text{{ found.variables?.length ? `, with ${found.variables.join(', ')}` : '' }}</summary>
      <pre class="mono overflow-x-auto rounded border border-rule px-2 py-1">{{ found.text }}</pre>
    </details>
    <DataTable
      v-if="found.items.length"
      name="Rule lines"
      :columns="columns"
      :rows="found.items"
      :row-id="(l: Line) => `${l.device} ${l.block} ${l.line}`"
    >
      <template #device="{ row: l }"
        ><RouterLink :to="'/devices/' + l.device">{{ l.device }}</RouterLink></template
      >
      <template #line="{ row: l }"
        ><code :class="l.lacks ? 'text-gone-ink' : 'text-added-ink'"
          ><span aria-hidden="true">{{ l.lacks ? '−' : '+' }}</span> {{ l.line }}</code
        ></template
      >
    </DataTable>
  </section>
</template>
