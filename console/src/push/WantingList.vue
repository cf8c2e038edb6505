<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'
import { versionsOf, type Device } from '../api/call'
import EmptyNote from '../design/EmptyNote.vue'
import DeviceState from '../fleet/DeviceState.vue'
import VersionTable from '../device/VersionTable.vue'
import { useFleet } from '../fleet'

// Beside the choice of a version: those of the device that is named, or, before one is, the
// devices that may want one put back.
const props = defineProps<{ device?: Device }>()
const fleet = useFleet()
const { data: versions } = useQuery({
  key: () => ['part', props.device?.name ?? '', '', 'offered'],
  query: () => versionsOf(props.device!.name),
  enabled: () => !!props.device,
})
const wants: Record<string, (d: Device) => { deed: string; to: string }> = {
  drifted: (d) => ({ deed: 'put the baseline back', to: `/push?ref=${d.name}@baseline` }),
  'factory defaults': (d) => ({ deed: 'put the newest back', to: `/push?ref=${d.name}` }),
  'hardware changed': (d) => ({ deed: 'swap it in', to: `/push?ref=${d.name}&to=${d.name}&swap=1` }),
}
const wanting = computed(() => fleet.devices.filter((d) => d.latest && wants[d.state]).map((d) => ({ d, ...wants[d.state](d) })))
</script>

<template>
  <section v-if="device">
    <h2 class="mb-1">Versions of {{ device.name }}</h2>
    <VersionTable :versions="versions ?? []" :picked="[]">
      <EmptyNote v-if="versions" title="No version yet">Pull the device to keep what it runs.</EmptyNote>
    </VersionTable>
  </section>
  <section v-else-if="wanting.length">
    <h2 class="mb-1">What may want one</h2>
    <ul class="card divide-y divide-rule">
      <li v-for="w in wanting" :key="w.d.name" class="flex flex-wrap items-center gap-x-3 px-3 py-1.5">
        <RouterLink :to="'/devices/' + w.d.name" class="min-w-40 font-semibold">{{ w.d.name }}</RouterLink>
        <DeviceState :device="w.d" /><span class="grow"></span><RouterLink :to="w.to">{{ w.deed }}</RouterLink>
      </li>
    </ul>
  </section>
  <EmptyNote v-else title="Nothing asks for it">Every device runs its baseline, on its own hardware.</EmptyNote>
</template>
