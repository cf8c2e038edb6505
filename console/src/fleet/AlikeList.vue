<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'
import { get, type Device, type Schemas } from '../api/call'
import { when } from '../composables/time'
import StateMark from '../design/StateMark.vue'
import { dashed } from '../selector'

// Devices that cannot be pulled for the same reason at the same place, in one sentence
// each; a click lists them.
type Alike = Schemas['Alike']
const props = defineProps<{ devices: Device[] }>()
// The service says what they have in common; it is asked when others are in trouble.
const troubled = computed(() =>
  props.devices.filter((d) => ['unreachable', 'login refused', 'pull failing'].includes(d.state)).map((d) => d.name),
)
const { data } = useQuery({
  key: () => ['alike', troubled.value.join(' ')],
  query: async () => (await get<Schemas['Status']>('/status')).alike,
  enabled: () => troubled.value.length > 1,
})
const groups = computed(() => (troubled.value.length > 1 ? (data.value ?? []) : []))
const text = defineModel<string>({ required: true })
const select = (g: Alike) => [g.site && `site=${g.site}`, `state=${dashed(g.state)}`].filter(Boolean).join(' ')
</script>

<template>
  <ul v-if="groups.length" class="card divide-y divide-rule" aria-label="Many with the same trouble">
    <li v-for="g in groups" :key="g.devices[0]" class="flex flex-wrap items-center gap-x-2 px-3 py-1">
      <StateMark :state="g.state" />
      <button type="button" class="link font-semibold" @click="text = select(g)">
        {{ g.devices.length }} devices{{ g.site ? ' at ' + g.site : '' }}
      </button>
      <span>{{ g.says }}</span>
      <span class="text-faded">{{
        g.since ? `since ${when(g.since)}` : g.last_pulled ? `none pulled since ${when(g.last_pulled)}` : 'none was ever pulled'
      }}</span>
    </li>
  </ul>
</template>
