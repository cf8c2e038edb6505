<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { listAll, query, type Schemas } from '../api/call'
import { now } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import EmptyNote from '../design/EmptyNote.vue'
import ProblemNote from '../design/ProblemNote.vue'
import AgendaList from '../schedules/AgendaList.vue'
import ScheduleForm from '../schedules/ScheduleForm.vue'
import ScheduleTable from '../schedules/ScheduleTable.vue'
import TideTable from '../schedules/TideTable.vue'
import { nightly } from '../schedules/rule'
import { HOUR, type Item } from '../schedules/tide'
import { useSession } from '../session'

// What is done by itself: a day by its hours beside that day's agenda, and all schedules.
type Schedule = Schemas['Schedule']
const operator = useSession().may('operator')
const ahead = ref(0) // so many days from today
const from = computed(() => {
  const d = new Date(now.value)
  return new Date(d.getFullYear(), d.getMonth(), d.getDate() + ahead.value).getTime()
})
const named = computed(() => new Date(from.value).toLocaleDateString('en-GB', { weekday: 'long', day: 'numeric', month: 'long' }))
const { data: schedules, error, refetch } = useQuery({ key: ['deed', 'schedules'], query: () => listAll<Schedule>('/schedules') })
const { data: items, refetch: again } = useQuery({
  key: () => ['jobs', 'agenda', from.value],
  query: () =>
    listAll<Item>(
      '/agenda' +
        query({ from: new Date(from.value).toISOString(), until: new Date(from.value + 24 * HOUR - 1).toISOString(), limit: 1000 }),
    ),
})
const making = ref<Partial<Schedule>>()
const changed = () => {
  making.value = undefined
  void refetch()
  void again()
}
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <h1>Schedules</h1>
    <span class="grow"></span>
    <AppButton v-if="operator" main @click="making = {}">Add a schedule</AppButton>
  </div>
  <ProblemNote :error="error" class="mb-3" />
  <template v-if="schedules?.length">
    <div class="mb-2 flex flex-wrap items-center gap-2">
      <AppButton small aria-label="the day before" @click="ahead--">←</AppButton>
      <h2 class="min-w-52 text-center">{{ ahead === 0 ? 'Today, ' : ahead === 1 ? 'Tomorrow, ' : '' }}{{ named }}</h2>
      <AppButton small aria-label="the day after" @click="ahead++">→</AppButton>
      <AppButton v-if="ahead" small @click="ahead = 0">Today</AppButton>
    </div>
    <div class="mb-4 grid grid-cols-[minmax(0,1fr)] items-start gap-3 lg:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)]">
      <TideTable :items="items ?? []" :from="from" />
      <AgendaList :items="items ?? []" />
    </div>
  </template>
  <ScheduleTable v-if="schedules" :schedules="schedules" @changed="changed">
    <EmptyNote title="Nothing is done by itself yet">
      Backups that somebody has to think of are forgotten.
      <span v-if="operator" class="mt-2 block"><AppButton main @click="making = nightly">Pull everything every night…</AppButton></span>
    </EmptyNote>
  </ScheduleTable>
  <ScheduleForm v-if="making" :start="making" @close="making = undefined" @saved="changed" />
</template>
