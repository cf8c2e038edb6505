<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, post, query, type Job, type Schemas, listAll } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { zone } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'
import { once } from '../composables/once'
import { several } from '../composables/several'

// Named sets of versions: made, and put back.
type Snapshot = Schemas['Snapshot']
const route = useRoute()
const router = useRouter()
const operator = useSession().may('operator')
const { data: all, error } = useQuery({ key: ['deed', 'snapshots'], query: () => listAll<Snapshot>('/snapshots') })
const form = reactive({ name: '', selector: String(route.query.of ?? ''), at: '', note: '' })
const making = useAttempt()
const make = () =>
  making.attempt(async () => {
    await post('/snapshots', {
      name: form.name.trim(),
      selector: form.selector.trim().split(/\s+/),
      at: form.at ? new Date(form.at).toISOString() : undefined,
      note: form.note || undefined,
    })
    form.name = form.note = form.at = ''
  })
const { busy, trouble, attempt } = useAttempt()
const back = (x: string) =>
  attempt(async () => {
    const j = await post<Job>('/restore-previews', { selector: [], snapshot: x }, { 'Idempotency-Key': once() })
    void router.push('/jobs/' + j.id)
  })
const beside = ref<Schemas['MomentDiff']>()
const compare = (from: string, to = '') => attempt(async () => void (beside.value = await get('/snapshot-diff' + query({ from, to }))))
type Part = Schemas['PartDiff']
const differs: Column<Part>[] = [
  { id: 'device', label: 'Device', value: (p) => p.device },
  { id: 'part', label: 'Part', value: (p) => p.part },
  { id: 'became', label: 'It is', value: (p) => p.became },
  { id: 'lines', label: 'Lines', value: (p) => p.added + p.removed, width: '8rem' },
  { id: 'deeds', label: '', width: '8rem' },
]
const diffOf = (p: Part) => `/compare?from=${p.device}/${p.part}@${p.from}&to=${p.device}/${p.part}@${p.to}`
const columns: Column<Snapshot>[] = [
  { id: 'name', label: 'Name', value: (x) => x.name, width: 'minmax(8rem, 1fr)', always: true },
  { id: 'count', label: 'Versions', value: (x) => x.count, width: '6rem', right: true },
  { id: 'selector', label: 'Of', value: (x) => several(x.selector.split(' ')), width: 'minmax(8rem, 1fr)' },
  { id: 'made', label: 'Made', value: (x) => x.made_at, width: '9.5rem', first: 'down' },
  { id: 'by', label: 'By', value: (x) => x.made_by, width: 'minmax(5rem, 0.5fr)' },
  { id: 'note', label: 'Note', value: (x) => x.note ?? '', width: 'minmax(8rem, 1.5fr)' },
  { id: 'deeds', label: '', width: '20rem', always: true },
]
</script>

<template>
  <h1 class="mb-3">Snapshots</h1>
  <ProblemNote :error="error ?? trouble" class="mb-3" />
  <AppForm
    v-if="operator"
    v-slot="{ problem }"
    class="card mb-4 p-3"
    :busy="making.busy.value"
    :trouble="making.trouble.value"
    :unable="!form.name || !form.selector"
    deed="Make it"
    @send="make"
  >
    <div class="grid gap-3 sm:grid-cols-2 lg:grid-cols-4">
      <FormField v-model="form.name" label="Name" name="name" :problem="problem('name')" required placeholder="before-storm" />
      <FormField
        v-model="form.selector"
        label="Of which devices"
        name="selector"
        :problem="problem('selector')"
        required
        placeholder="site=callowmere, or all"
      />
      <FormField
        v-model="form.at"
        label="As they were"
        name="at"
        type="datetime-local"
        :hint="`left empty: as they were last pulled; ${zone}`"
      />
      <FormField v-model="form.note" label="Note" name="note" />
    </div>
  </AppForm>
  <DataTable v-if="all" name="Snapshots" :columns="columns" :rows="all" :row-id="(x: Snapshot) => x.name">
    <template #name="{ row: x }"
      ><b>{{ x.name }}</b></template
    >
    <template #made="{ row: x }"><TimeMark :at="x.made_at" exact /></template>
    <template #deeds="{ row: x }"
      ><span class="flex gap-1"
        ><AppButton small :busy="busy" @click="compare(x.name)">Compare with now</AppButton
        ><AppButton v-if="operator" small :busy="busy" @click="back(x.name)">Put all of it back…</AppButton></span
      ></template
    >
    <template #none
      ><EmptyNote title="No snapshots yet">
        A snapshot names one version of each part of some devices, as they are now or were at a time, so that all of it can be put back
        together.
      </EmptyNote></template
    >
  </DataTable>
  <section v-if="beside" class="mt-4" aria-label="What differs">
    <h2 class="mb-1">
      From {{ beside.from }} to {{ beside.to }}: {{ beside.parts.length }}
      {{ beside.parts.length === 1 ? 'part differs' : 'parts differ' }}, {{ beside.same }} unchanged
    </h2>
    <p v-if="beside.oldest_at" class="mb-1 text-faded">
      Now is as last pulled, {{ beside.oldest }} the longest ago: <TimeMark :at="beside.oldest_at" />. What changed since is not known.
    </p>
    <DataTable name="Differs" :columns="differs" :rows="beside.parts" :row-id="(p: Part) => p.device + p.part">
      <template #device="{ row: p }"
        ><RouterLink :to="'/devices/' + p.device">{{ p.device }}</RouterLink></template
      >
      <template #lines="{ row: p }"
        ><span class="text-teal">+{{ p.added }}</span> <span class="text-gone-ink">−{{ p.removed }}</span></template
      >
      <template #deeds="{ row: p }"><RouterLink v-if="p.from && p.to" :to="diffOf(p)">line by line</RouterLink></template>
      <template #none><EmptyNote title="Nothing differs">Every part is as it was.</EmptyNote></template>
    </DataTable>
  </section>
</template>
