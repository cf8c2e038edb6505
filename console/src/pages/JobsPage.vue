<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { useIntervalFn } from '@vueuse/core'
import { computed, ref } from 'vue'
import { get, listAll, query, type Job, type JobKind, type Page } from '../api/call'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import { when, zone } from '../composables/time'

const kind = ref('')
const before = ref('')
const { data, error, refetch } = useQuery({
  key: () => ['jobs', kind.value, before.value],
  query: () => get<Page<Job>>('/jobs' + query({ kind: kind.value, cursor: before.value, limit: 50 })),
})
useIntervalFn(() => void refetch(), 3000)
const kinds = useQuery({ key: ['job-kinds'], query: () => listAll<JobKind>('/job-kinds') })
const names = computed(() => ['', ...(kinds.data.value ?? []).map((k) => k.name)])
const awaited = (j: Job) => kinds.data.value?.find((k) => k.name === j.kind)?.awaits.find((w) => w.for === j.awaits)?.means
const many = (j: Job) => ['restore-preview', 'restore'].includes(j.kind) || !j.device
const jobs = computed(() => data.value?.items ?? [])
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <h1 class="mr-2">Jobs</h1>
    <button
      v-for="k in names"
      :key="k"
      type="button"
      class="button"
      :class="kind === k ? 'border-teal! text-teal!' : ''"
      :aria-pressed="kind === k"
      @click="((kind = k), (before = ''))"
    >
      {{ k || 'all' }}
    </button>
  </div>
  <ProblemNote :error="error" />
  <div class="card overflow-x-auto">
    <table class="w-full">
      <thead class="border-b border-rule bg-leaf">
        <tr>
          <th class="px-3 py-1.5">State</th>
          <th class="px-3">Kind</th>
          <th class="px-3">Device</th>
          <th class="hidden px-3 sm:table-cell">Asked for</th>
          <th class="hidden px-3 md:table-cell">By</th>
          <th class="px-3">Summary</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="j in jobs" :key="j.id" class="border-b border-rule last:border-0 hover:bg-leaf">
          <td class="px-3 py-1.5">
            <StateMark :state="j.outcome || j.state" /><span v-if="j.awaits" class="block text-faded">for {{ awaited(j) }}</span>
          </td>
          <td class="px-3">
            <RouterLink :to="'/jobs/' + j.id" :aria-label="`${j.kind} of ${j.device}`">{{ j.kind }}</RouterLink>
          </td>
          <td class="px-3 whitespace-nowrap">
            <template v-if="many(j)">{{ j.device }}</template><RouterLink v-else :to="'/devices/' + j.device">{{ j.device }}</RouterLink>
          </td>
          <td class="hidden px-3 whitespace-nowrap sm:table-cell">{{ when(j.created_at) }}</td>
          <td class="hidden px-3 md:table-cell">{{ j.actor }}</td>
          <td class="px-3">{{ j.summary }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="data && !jobs.length" class="p-6 text-center text-faded">No jobs yet. Pull a device to make the first.</p>
  </div>
  <div class="mt-2 flex gap-3">
    <button v-if="data?.next" type="button" class="button" @click="before = data.next">Older</button
    ><button v-if="before" type="button" class="button" @click="before = ''">Newest</button
    ><span class="py-1.5 text-faded">Times are in {{ zone }}.</span>
  </div>
</template>
