<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'
import { get, type Schemas } from '../api/call'
import { bytes } from '../composables/bytes'
import FactList from '../design/FactList.vue'
import ProblemNote from '../design/ProblemNote.vue'
import StateMark from '../design/StateMark.vue'
import { away, connected } from '../live'

// How the service itself is, and what it keeps.
const { data: s, error } = useQuery({ key: ['deed', 'status'], query: () => get<Schemas['Status']>('/status'), staleTime: 5000 })
const size = bytes
const health = computed(() => [
  { word: 'version', says: s.value?.version },
  { word: 'instance', says: s.value?.instance },
  { word: 'database', says: away.value ? 'away' : 'there' },
  { word: 'this page', says: connected.value ? 'is told of every change' : 'is not connected; it tries again' },
])
const work = computed(() => [
  { word: 'jobs running', says: s.value?.jobs_running },
  { word: 'queued', says: s.value?.jobs_queued },
  { word: 'waiting', says: s.value?.jobs_waiting },
  { word: 'notifications pending or failed', says: s.value && s.value.untold + s.value.given_up, to: '/notifications?tab=messages' },
])
const room = computed(() => {
  const v = s.value
  if (v?.room === undefined) return 'not known'
  return size(v.room) + (v.full_in === undefined ? '' : `, for ${v.full_in} days`)
})
const kept = computed(() => [
  { word: 'devices', says: s.value?.devices },
  { word: 'never proven', says: s.value?.never_proven },
  { word: 'texts', says: s.value?.contents },
  { word: 'their size, sealed', says: size(s.value?.contents_bytes ?? 0) },
  { word: 'grows a day by', says: size(s.value?.growth ?? 0) },
  { word: 'room on the disk', says: room.value },
  { word: 'damaged', says: s.value?.damaged, to: '/jobs?kind=scrub' },
  { word: 'recovery sheet', says: s.value?.sheet_due ? 'not verified yet' : 'verified' },
])
</script>

<template>
  <ProblemNote :error="error" />
  <div v-if="s" class="grid gap-4 sm:grid-cols-2 xl:grid-cols-4">
    <section>
      <h2 class="mb-1">Health</h2>
      <FactList :facts="health" />
    </section>
    <section>
      <h2 class="mb-1">Work</h2>
      <FactList :facts="work" />
    </section>
    <section>
      <h2 class="mb-1">Storage</h2>
      <FactList :facts="kept" />
    </section>
    <section>
      <h2 class="mb-1">Fleet</h2>
      <ul class="card grid gap-1 p-3">
        <li v-for="state in s.order.filter((x) => s!.states[x])" :key="state" class="flex justify-between gap-3">
          <RouterLink :to="{ path: '/', query: { select: 'state=' + state.replaceAll(' ', '-') } }" class="no-underline"
            ><StateMark :state="state" /></RouterLink
          ><span class="tabular-nums">{{ s.states[state] }}</span>
        </li>
      </ul>
    </section>
  </div>
</template>
