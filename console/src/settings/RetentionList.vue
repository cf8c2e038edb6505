<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'
import { call, get, listAll, post, type Job, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { ended } from '../composables/job'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'
import { several } from '../composables/several'

// For how long versions stay, and what would go now.
type Policy = Schemas['Retention']
const rest = 'everything-else'
const admin = useSession().may('admin')
const { data: all, error, refetch } = useQuery({ key: ['deed', 'retention'], query: () => listAll<Policy>('/retention') })
const going = ref<Schemas['RetentionPreview']>()
const said = ref('')
const editing = ref<Policy | 'new'>()
const form = reactive({ name: '', selector: '', newest: 50, by_hand: 50, daily: 60, weekly: 53, monthly: 60, note: '' })
const { busy, trouble, attempt } = useAttempt()
function edit(p: Policy | 'new') {
  const from = p === 'new' ? all.value!.at(-1)! : p
  const { newest, by_hand, daily, weekly, monthly } = from
  Object.assign(form, { newest, by_hand, daily, weekly, monthly }, { name: '', selector: '', note: '' })
  if (p !== 'new') Object.assign(form, { name: p.name, selector: p.selector.join(' '), note: p.note ?? '' })
  trouble.value = undefined
  editing.value = p
}
const keep = () =>
  attempt(async () => {
    const { name, selector, ...body } = form
    const of = name === rest ? undefined : selector.split(/\s+/).filter(Boolean)
    await call('PUT', '/retention/' + encodeURIComponent(name), { ...body, selector: of })
    editing.value = going.value = undefined
    await refetch()
  })
const drop = (p: Policy) => attempt(async () => (await call('DELETE', '/retention/' + encodeURIComponent(p.name)), await refetch()))
const look = () => attempt(async () => void (going.value = await get('/retention-preview')))
const run = () =>
  attempt(async () => {
    const end = await ended((await post<Job>('/jobs', { kind: 'retention' })).id)
    said.value = `${end.outcome}: ${end.summary}`
    going.value = undefined
  })
const columns: Column<Policy>[] = [
  { id: 'name', label: 'Policy', value: (p) => p.name },
  { id: 'of', label: 'Of', value: (p) => several(p.selector) },
  { id: 'says', label: 'Keeps', value: (p) => p.says, width: 'minmax(16rem, 4fr)' },
  { id: 'by', label: 'By', value: (p) => p.changed_by, width: '7rem' },
  { id: 'deeds', label: '', width: '12rem' },
]
const goes: Column<Schemas['GoingVersion']>[] = [
  { id: 'ref', label: 'Version', value: (v) => v.ref, width: 'minmax(12rem, 1.5fr)' },
  { id: 'taken', label: 'Taken', value: (v) => v.taken_at, width: '9.5rem' },
  { id: 'reason', label: 'Reason', value: (v) => v.reason },
  { id: 'policy', label: 'Policy', value: (v) => v.policy },
]
const numbers = [
  ['newest', 'The newest, of those taken by themselves'],
  ['by_hand', 'The newest, of those a person asked for'],
  ['daily', 'The last of each day, for so many days'],
  ['weekly', 'The last of each week, for so many weeks'],
  ['monthly', 'The last of each month, for so many months'],
] as const
</script>

<template>
  <p class="mb-2 max-w-prose text-faded">
    The first policy that picks a device holds. Whatever they say, these stay: pinned and named versions, baselines, what is in a snapshot,
    the newest of each part, and what a push under way needs. Once a day what has had its time is deleted, and the audit log says what.
  </p>
  <div class="mb-2 flex flex-wrap items-center gap-2">
    <AppButton v-if="admin && all" @click="edit('new')">Add a policy</AppButton>
    <AppButton :busy="busy" @click="look">What would go now</AppButton>
    <AppButton v-if="admin && going?.go" danger :busy="busy" @click="run">Delete {{ going.go }} versions now</AppButton>
    <span v-if="said" role="status">{{ said }}</span>
  </div>
  <ProblemNote :error="error ?? (editing ? undefined : trouble)" class="mb-2" />
  <DataTable v-if="all" name="Retention" :columns="columns" :rows="all" :row-id="(p: Policy) => p.name">
    <template #deeds="{ row: p }"
      ><span v-if="admin" class="flex gap-1"
        ><AppButton small :aria-label="'Change ' + p.name" @click="edit(p)">Change</AppButton
        ><AppButton v-if="p.name !== rest" small :busy="busy" :aria-label="'Remove ' + p.name" @click="drop(p)">Remove</AppButton></span
      ></template
    >
  </DataTable>
  <section v-if="going" class="mt-4" aria-label="What would go now">
    <h2 class="mb-1">{{ going.go }} would go, {{ going.stay }} stay</h2>
    <DataTable name="Going" :columns="goes" :rows="going.items" :row-id="(v: any) => v.ref">
      <template #taken="{ row: v }"><TimeMark :at="v.taken_at" exact /></template>
      <template #none><EmptyNote title="Nothing would go">Every version is within its time.</EmptyNote></template>
    </DataTable>
  </section>
  <ModalDialog v-if="editing" :title="editing === 'new' ? 'Add a policy' : `Change ${editing.name}`" @close="editing = undefined">
    <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Keep" leaves @send="keep" @leave="editing = undefined">
      <FormField v-if="editing === 'new'" v-model.trim="form.name" label="Name" name="policy-name" :problem="problem('name')" required />
      <FormField
        v-if="form.name !== rest"
        v-model="form.selector"
        label="Of which devices"
        name="policy-selector"
        placeholder="kind=switch"
        :problem="problem('selector')"
        required
      />
      <FormField
        v-for="[key, label] in numbers"
        :key="key"
        v-model="form[key]"
        :label="label"
        :name="key"
        type="number"
        :min="0"
        required
      />
      <FormField v-model="form.note" label="Why" name="policy-note" />
    </AppForm>
  </ModalDialog>
</template>
