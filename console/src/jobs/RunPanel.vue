<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { get, query, type Job, type Page } from '../api/call'
import StateMark from '../design/StateMark.vue'
import JobTable from './JobTable.vue'

// What a schedule had done: how its jobs stand, and each of them.
const props = defineProps<{ job: Job }>()
const { data: parts } = useQuery({
  key: () => ['jobs', 'part of', props.job.id],
  query: () => get<Page<Job>>('/jobs' + query({ part_of: props.job.id, limit: 1000 })),
})
</script>

<template>
  <section v-if="job.scheduled" class="grid grid-cols-[minmax(0,1fr)] gap-2">
    <p v-if="job.scheduled.missed" class="note">
      Nobody was there {{ job.scheduled.missed }} {{ job.scheduled.missed === 1 ? 'time' : 'times' }} that it was due; this made up for it.
    </p>
    <p class="flex flex-wrap gap-x-4">
      <span v-for="p in job.scheduled.parts" :key="p.kind + p.state + p.outcome"
        >{{ p.count }} × {{ p.kind }} <StateMark :state="p.outcome || p.state"
      /></span>
    </p>
    <JobTable :jobs="parts?.items ?? []" />
  </section>
</template>
