<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { call, listAll, post, type Job, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { ended } from '../composables/job'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import AddDevice from '../fleet/AddDevice.vue'

// Addresses are looked at, and what answers where no device is registered is proposed.
type Proposal = Schemas['Proposal']
const { data: all, error, refetch } = useQuery({ key: ['deed', 'proposals'], query: () => listAll<Proposal>('/proposals') })
const ranges = ref('')
const ways = ref('')
const said = ref('')
const adding = ref<Proposal>()
const { busy, trouble, attempt } = useAttempt()
const discover = () =>
  attempt(async () => {
    said.value = ''
    const words = ranges.value.split(/[\s,]+/).filter(Boolean)
    const over = ways.value.split(/[\s,]+/).filter(Boolean)
    const end = await ended((await post<Job>('/discoveries', { ranges: words, ways: over.length ? over : undefined })).id)
    said.value = `${end.outcome}: ${end.summary}`
    await refetch()
  })
const dismiss = (p: Proposal) => attempt(async () => (await call('DELETE', '/proposals/' + p.id), await refetch()))
const columns: Column<Proposal>[] = [
  { id: 'address', label: 'Address', value: (p) => p.address + ' ' + p.port, width: 'minmax(9rem, 1fr)' },
  { id: 'over', label: 'Over', value: (p) => p.transport, width: '5.5rem' },
  { id: 'says', label: 'It says', value: (p) => p.says, width: 'minmax(10rem, 2fr)' },
  { id: 'key', label: 'Key', value: (p) => p.fingerprint, width: 'minmax(10rem, 2fr)' },
  { id: 'may', label: 'May speak', value: (p) => p.dialects.join(', '), width: 'minmax(7rem, 1fr)' },
  { id: 'seen', label: 'Seen', value: (p) => p.seen_at, first: 'down', width: '9.5rem' },
  { id: 'deeds', label: '', width: '12rem' },
]
</script>

<template>
  <section aria-labelledby="who-answers">
    <h2 id="who-answers" class="mb-1">what answers</h2>
    <p class="mb-2 max-w-prose text-faded">
      Addresses are greeted at the ports of the dialects that are loaded. Nobody signs in, nothing is tried; what answers and is not
      registered stands below until you add it or say that it is not yours.
    </p>
    <AppForm :busy="busy" @send="discover">
      <div class="flex flex-wrap items-end gap-2">
        <FormField
          v-model="ranges"
          label="Addresses"
          name="ranges"
          placeholder="192.0.2.0/26, 198.51.100.10-40"
          class="w-full sm:w-96"
          required
        />
        <FormField v-model="ways" label="Over" name="ways" placeholder="all ways, or ssh, ssh:2222" class="w-full sm:w-56" />
        <AppButton submit :busy="busy">{{ busy ? 'Looking…' : 'Look what answers' }}</AppButton>
        <span v-if="said" role="status" class="pb-1">{{ said }}</span>
      </div>
    </AppForm>
    <ProblemNote :error="error ?? trouble" class="mt-2" />
    <DataTable v-if="all" name="Proposals" :columns="columns" :rows="all" :row-id="(p: Proposal) => p.id" class="mt-2">
      <template #address="{ row: p }"
        >{{ p.address }} <span class="text-faded">port {{ p.port }}</span></template
      >
      <template #key="{ row: p }"
        ><span class="break-all">{{ p.fingerprint || 'shows none' }}</span
        ><span v-if="p.same" class="block text-alarm">the key of {{ p.same }}</span></template
      >
      <template #seen="{ row: p }"><TimeMark :at="p.seen_at" /></template>
      <template #deeds="{ row: p }"
        ><span class="flex gap-1"
          ><AppButton small :aria-label="'Add ' + p.address" @click="adding = p">Add…</AppButton
          ><AppButton small :busy="busy" :aria-label="'Dismiss ' + p.address" @click="dismiss(p)">Not ours</AppButton></span
        ></template
      >
      <template #none><EmptyNote title="Nothing proposed">Look what answers at a range of addresses first.</EmptyNote></template>
    </DataTable>
    <AddDevice v-if="adding" :start="adding" @close="adding = undefined" @added="((adding = undefined), void refetch())" />
  </section>
</template>
