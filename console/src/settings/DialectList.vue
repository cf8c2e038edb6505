<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { listAll, type Dialect } from '../api/call'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import { useSession } from '../session'
import DialectEditor from './DialectEditor.vue'

// How families of devices are spoken to: read, checked, tried and loaded.
const route = useRoute()
const router = useRouter()
const operator = useSession().may('operator')
const { data: all, error } = useQuery({ key: ['deed', 'dialects'], query: () => listAll<Dialect>('/dialects') })
const name = computed({
  get: () => String(route.query.name ?? ''),
  set: (v) => void router.replace({ query: { ...route.query, name: v || undefined } }),
})
const columns: Column<Dialect>[] = [
  { id: 'name', label: 'Dialect', value: (d) => d.name, width: 'minmax(6rem, 0.7fr)' },
  { id: 'title', label: 'Family', value: (d) => d.title, width: 'minmax(10rem, 2fr)' },
  { id: 'kind', label: 'Kind', value: (d) => d.kind },
  { id: 'ways', label: 'Over', value: (d) => d.ways.map((w) => w.transport).join(', ') },
  { id: 'methods', label: 'Methods', value: (d) => d.methods.join(', ') },
  { id: 'revision', label: 'Revision', value: (d) => d.revision, width: '6rem', right: true },
  { id: 'devices', label: 'Devices', value: (d) => d.devices, width: '6rem', right: true },
]
</script>

<template>
  <DialectEditor v-if="name" :key="name" :name="name" @close="name = ''" @loaded="name = $event" />
  <template v-else>
    <ProblemNote :error="error" class="mb-2" />
    <p v-if="operator" class="mb-2"><AppButton @click="name = 'new'">Write or load a dialect</AppButton></p>
    <DataTable
      v-if="all"
      name="Dialects"
      :columns="columns"
      :rows="all"
      :row-id="(d: Dialect) => d.name"
      @open="(d: Dialect) => (name = d.name)"
    >
      <template #name="{ row: d }"
        ><button type="button" class="link font-semibold" @click="name = d.name">{{ d.name }}</button></template
      >
      <template #devices="{ row: d }"
        ><RouterLink :to="{ path: '/', query: { select: 'dialect=' + d.name } }">{{ d.devices }}</RouterLink></template
      >
    </DataTable>
  </template>
</template>
