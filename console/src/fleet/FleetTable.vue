<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import type { Device } from '../api/call'
import AgeBar from '../design/AgeBar.vue'
import DataTable from '../design/DataTable.vue'
import StateMark from '../design/StateMark.vue'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'
import { columns } from './columns'
import DeviceState from './DeviceState.vue'
import { wanted } from './wanted'

// The devices that are chosen, worst first until somebody sorts them.
const props = defineProps<{ devices: Device[]; order: string[]; bySite: boolean }>()
const picked = defineModel<string[]>('picked', { required: true })
const router = useRouter()
const operator = useSession().may('operator')
const rank = computed(() => new Map(props.order.map((s, i) => [s, i])))
const rows = computed(() =>
  [...props.devices].sort((a, b) => rank.value.get(a.state)! - rank.value.get(b.state)! || (a.name < b.name ? -1 : 1)),
)
const cols = columns(() => props.order)
const open = (d: Device) => void router.push('/devices/' + d.name)
const worst = (rows: Device[]) =>
  props.order.flatMap((s) => (rows.some((d) => d.state === s) ? [[s, rows.filter((d) => d.state === s).length]] : []))
</script>

<template>
  <DataTable
    v-model:picked="picked"
    name="Devices"
    :columns="cols"
    :rows="rows"
    :row-id="(d: Device) => d.name"
    :group="bySite ? (d: Device) => d.site : undefined"
    :picks="operator"
    tall
    @open="open"
  >
    <template #group-head="{ rows: of }">
      <span class="text-faded">{{ of.length }}</span>
      <span v-for="[s, n] in worst(of)" :key="s">{{ n }} <StateMark :state="String(s)" /></span>
    </template>
    <template #state="{ row: d }"><DeviceState :device="d" /></template>
    <template #name="{ row: d }"
      ><RouterLink :to="'/devices/' + d.name" class="font-semibold">{{ d.name }}</RouterLink></template
    >
    <template #latest="{ row: d }"
      ><RouterLink v-if="d.latest" :to="`/version?ref=${d.name}@${d.latest}`">{{ d.latest }}</RouterLink></template
    >
    <template #changed="{ row: d }"><TimeMark :at="d.last_changed" never="" /></template>
    <template #pulled="{ row: d }"><AgeBar :at="d.last_pulled" :days="2" /></template>
    <template #proven="{ row: d }"><AgeBar :at="d.last_proven" :days="90" /></template>
    <template #what="{ row: d }">
      <span v-for="w in [wanted(d, operator)]" :key="'wanted'" class="block min-w-0">
        <span v-if="w.says" :class="w.to ? 'line-clamp-1' : 'line-clamp-2'" :title="w.says">{{ w.says }}</span>
        <RouterLink v-if="w.to" class="block truncate" :to="w.to">{{ w.deed }}</RouterLink>
      </span>
    </template>
    <template #none><slot name="none" /></template>
  </DataTable>
</template>
