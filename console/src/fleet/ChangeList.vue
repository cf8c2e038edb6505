<script setup lang="ts">
import type { Version } from '../api/call'
import DataTable from '../design/DataTable.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'

// Versions of several devices, each with what it changed.
defineProps<{ versions: Version[] }>()
const columns: Column<Version>[] = [
  { id: 'taken', label: 'Taken', value: (v) => v.taken_at, width: '9rem' },
  { id: 'version', label: 'Version', value: (v) => v.ref, width: 'minmax(8rem, 1fr)' },
  { id: 'change', label: 'Change', value: (v) => v.added + v.removed, width: '5.5rem' },
  { id: 'author', label: 'By', value: (v) => v.author ?? '', width: '5rem' },
]
const before = (v: Version) => v.ref.replace(/@\d+$/, '@' + (v.number - 1))
</script>

<template>
  <DataTable name="Changes" :columns="columns" :rows="versions" :row-id="(v: Version) => v.id">
    <template #taken="{ row: v }"><TimeMark :at="v.taken_at" exact /></template>
    <template #version="{ row: v }"
      ><RouterLink :to="`/compare?from=${before(v)}&to=${v.ref}`">{{ v.ref }}</RouterLink></template
    >
    <template #change="{ row: v }"
      ><template v-if="v.lines === 0">{{ v.size }} bytes</template
      ><template v-else
        ><span class="text-added-ink">+{{ v.added }}</span> <span class="text-gone-ink">−{{ v.removed }}</span></template
      ></template
    >
  </DataTable>
</template>
