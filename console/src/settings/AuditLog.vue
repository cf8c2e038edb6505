<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, listAll, query, type Page, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { serverNow } from '../api/clock'

// Who did what, to whom and when; and whether the log is as it was written.
type Entry = Schemas['AuditEntry']
const route = useRoute()
const router = useRouter()
const word = (name: string) =>
  computed({
    get: () => String(route.query[name] ?? ''),
    set: (v) => void router.replace({ query: { ...route.query, [name]: v || undefined } }),
  })
const about = word('about')
const who = word('who')
const days = word('days')
const since = () => (days.value ? new Date(serverNow() - Number(days.value) * 86400_000).toISOString() : undefined)
const { data, error } = useQuery({
  key: () => ['deed', 'audit', about.value, who.value, days.value],
  query: () =>
    get<Page<Entry>>(
      '/audit' +
        query({
          about: about.value,
          actor: who.value,
          since: since(),
          limit: 1000,
        }),
    ),
})
const { data: users } = useQuery({ key: ['deed', 'users'], query: () => listAll<Schemas['User']>('/users') })
const people = computed(() => [
  { value: '', label: 'by anybody' },
  ...(users.value ?? []).map((u) => ({ value: u.name, label: 'by ' + u.name })),
])
const spans = [
  { value: '', label: 'at any time' },
  { value: '1', label: 'in the last day' },
  { value: '7', label: 'in the last week' },
  { value: '31', label: 'in the last month' },
]
const check = ref<Schemas['AuditCheck']>()
const { busy, trouble, attempt } = useAttempt()
const prove = () => attempt(async () => void (check.value = await get('/audit-check')))
// save writes all that is chosen as a file: a line of JSON a row, each with its code.
const save = () =>
  attempt(async () => {
    const filter = query({ about: about.value, actor: who.value, since: since(), limit: 1000 })
    const rows = await listAll<Entry>('/audit' + filter)
    const link = document.createElement('a')
    link.href = URL.createObjectURL(
      new Blob(
        rows.map((r) => JSON.stringify(r) + '\n'),
        { type: 'application/x-ndjson' },
      ),
    )
    link.download = 'audit.jsonl'
    link.click()
    URL.revokeObjectURL(link.href)
  })
const columns: Column<Entry>[] = [
  { id: 'seq', label: 'Row', value: (e) => e.seq, width: '5rem', first: 'down' },
  { id: 'at', label: 'At', value: (e) => e.at, width: '9.5rem', first: 'down' },
  { id: 'actor', label: 'Who', value: (e) => e.actor, width: 'minmax(5rem, 0.5fr)' },
  { id: 'action', label: 'Did', value: (e) => e.action, width: 'minmax(8rem, 1fr)' },
  { id: 'object', label: 'To', value: (e) => e.object, width: 'minmax(9rem, 1.2fr)' },
  { id: 'detail', label: 'Detail', width: 'minmax(12rem, 3fr)' },
]
</script>

<template>
  <div class="mb-2 flex flex-wrap items-end gap-2">
    <FormField v-model="about" label="To whom" name="audit-about" placeholder="a device, a user…" class="w-52" />
    <FormField v-model="who" label="Who" name="audit-who" type="select" :options="people" class="w-44" />
    <FormField v-model="days" label="When" name="audit-days" type="select" :options="spans" class="w-44" />
    <span class="grow"></span>
    <span v-if="check" role="status" :class="check.sound ? 'text-teal' : 'text-alarm'">{{
      check.sound ? `Its ${check.rows} rows are as they were written.` : check.trouble
    }}</span>
    <AppButton :busy="busy" @click="save">As a file</AppButton>
    <AppButton :busy="busy" @click="prove">Prove that it is whole</AppButton>
  </div>
  <ProblemNote :error="error ?? trouble" class="mb-2" />
  <DataTable
    v-if="data"
    name="Audit log"
    :columns="columns"
    :rows="data.items"
    :row-id="(e: Entry) => String(e.seq)"
    tall
    style="--above: 15rem"
  >
    <template #at="{ row: e }"><TimeMark :at="e.at" exact /></template>
    <template #detail="{ row: e }"
      ><span class="line-clamp-3" :title="e.detail">{{ e.detail }}</span></template
    >
  </DataTable>
  <p v-if="data?.next" class="mt-1 text-faded">The newest {{ data.items.length }} are shown; narrow the choice to see older ones.</p>
</template>
