<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { useRouter } from 'vue-router'
import { listAll, post, type Device, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'

// Devices that were removed: what was kept of them is read, and they come back with it.
type Removed = Schemas['RemovedDevice']
const router = useRouter()
const { data: all, error } = useQuery({ key: ['deed', 'removed'], query: () => listAll<Removed>('/removed-devices') })
const { busy, trouble, attempt } = useAttempt()
const back = (d: Removed) =>
  attempt(async () => {
    const is = await post<Device>(`/removed-devices/${encodeURIComponent(d.name)}/reinstate`, {})
    void router.push('/devices/' + encodeURIComponent(is.name))
  })
const columns: Column<Removed>[] = [
  { id: 'name', label: 'Device', value: (d) => d.name, card: 'lead', width: 'minmax(14rem, 2fr)' },
  { id: 'removed', label: 'Removed', value: (d) => d.removed_at, first: 'down', width: 'minmax(7rem, 1fr)' },
  { id: 'site', label: 'Site', value: (d) => d.site, width: 'minmax(7rem, 1fr)' },
  { id: 'address', label: 'Address', value: (d) => d.address, width: 'minmax(8rem, 1fr)' },
  { id: 'serial', label: 'Serial', value: (d) => d.serial ?? '', width: 'minmax(8rem, 1fr)' },
  { id: 'versions', label: 'Versions', value: (d) => d.versions, width: '7rem' },
  { id: 'deeds', label: '', width: '9rem' },
]
</script>

<template>
  <section>
    <h2 class="mb-1">Removed devices</h2>
    <p class="mb-2 text-faded">Their versions are read, compared and exported by these names, and a device comes back with all of them.</p>
    <ProblemNote :error="error ?? trouble" class="mb-2" />
    <p v-if="all && !all.length">None.</p>
    <DataTable v-else-if="all" name="Removed devices" :columns="columns" :rows="all" :row-id="(d: Removed) => d.name">
      <template #name="{ row: d }"
        ><RouterLink v-if="d.versions" :to="{ path: '/version', query: { ref: d.name } }">{{ d.name }}</RouterLink
        ><template v-else>{{ d.name }}</template></template
      >
      <template #removed="{ row: d }"><TimeMark :at="d.removed_at" /></template>
      <template #deeds="{ row: d }"
        ><AppButton small :busy="busy" :aria-label="`Bring ${d.was} back`" @click="back(d)">Bring it back</AppButton></template
      >
    </DataTable>
  </section>
</template>
