<script setup lang="ts">
import { computed } from 'vue'
import type { Device, Schemas } from '../api/call'
import { when } from '../composables/time'
import DataTable from '../design/DataTable.vue'
import FactList, { type Fact } from '../design/FactList.vue'
import StateMark from '../design/StateMark.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'

// Who a device is, how it is reached, and the hardware that has had its place.
const props = defineProps<{ device: Device; swaps: Schemas['Swap'][] }>()
const standIn: Record<string, string> = { address: 'an address burnt into it', 'machine-id': 'its machine id', 'host-key': 'its host key' }
const identity = computed<Fact[]>(() => {
  const x = props.device
  const inStead = x.stand_in ? ` (it has none; ${standIn[x.stand_in] ?? x.stand_in} stands in for it)` : ''
  return [
    { word: 'host name', says: x.host },
    { word: 'model', says: x.model },
    { word: 'serial', says: x.serial && x.serial + inStead },
    { word: 'release', says: x.release },
    { word: 'expected serial', says: x.serials.join(' or ') },
    { word: 'last proven', says: x.last_proven ? `${when(x.last_proven)}, ${x.proven}` : 'never' },
    { word: 'registered', says: when(x.created_at) },
  ]
})
const entry = computed<Fact[]>(() => {
  const x = props.device
  return [
    { word: 'visited', says: x.disabled ? 'no, it is disabled' : '' },
    { word: 'note', says: x.note },
    ...Object.entries(x.fields ?? {}).map(([word, says]) => ({ word, says })),
    { word: 'kind', says: x.kind },
    { word: 'site', says: x.site, to: { path: '/', query: { select: 'site=' + x.site } } },
    { word: 'tags', says: x.tags.join(', ') },
    { word: 'dialect', says: x.dialect, to: '/settings?tab=dialects&name=' + x.dialect },
    { word: 'address', says: `${x.address} port ${x.port}` },
    { word: 'over', says: x.transport },
    { word: 'through', says: x.jump, to: '/devices/' + x.jump },
    { word: 'hangs on', says: x.parent, to: '/devices/' + x.parent },
    { word: 'credential set', says: x.credential, to: '/settings?tab=credentials' },
    { word: 'user', says: x.user },
    { word: 'host key', says: x.host_key_fingerprint, mono: true },
  ]
})
const columns: Column<Schemas['Swap']>[] = [
  { id: 'at', label: 'Swapped', value: (s) => s.at, width: '10rem' },
  { id: 'old', label: 'Old unit', value: (s) => `${s.old_model}, serial ${s.old_serial}` },
  { id: 'new', label: 'New unit', value: (s) => `${s.new_model}, serial ${s.new_serial}` },
  { id: 'version', label: 'Put on it', value: (s) => s.version },
  { id: 'actor', label: 'By', value: (s) => s.actor, width: '6rem' },
  { id: 'outcome', label: 'Came out', value: (s) => s.outcome, width: '7rem' },
]
</script>

<template>
  <div class="grid gap-4 lg:grid-cols-2">
    <section>
      <h2 class="mb-1">What it says of itself</h2>
      <FactList :facts="identity" />
    </section>
    <section>
      <h2 class="mb-1">How it is registered</h2>
      <FactList :facts="entry" />
    </section>
    <section v-if="device.children?.length">
      <h2 class="mb-1">Devices that hang on it</h2>
      <ul class="card grid gap-x-10 gap-y-1 p-3 sm:grid-cols-2">
        <li v-for="k in device.children" :key="k.name" class="flex items-center justify-between gap-2">
          <RouterLink :to="'/devices/' + k.name">{{ k.name }}</RouterLink><StateMark :state="k.state" />
        </li>
      </ul>
    </section>
    <section class="lg:col-span-2">
      <h2 class="mb-1">Hardware that has had this place</h2>
      <DataTable v-if="swaps.length" name="Swaps" :columns="columns" :rows="swaps" :row-id="(s: Schemas['Swap']) => s.job + s.at">
        <template #at="{ row: s }"><TimeMark :at="s.at" exact /></template>
        <template #outcome="{ row: s }"
          ><RouterLink :to="'/jobs/' + s.job"><StateMark :state="s.outcome" /></RouterLink
        ></template>
      </DataTable>
      <p v-else class="text-faded">The unit that answers is the one it began with.</p>
    </section>
  </div>
</template>
