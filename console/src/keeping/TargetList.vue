<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { call, listAll, post, type Schemas } from '../api/call'
import { bytes } from '../composables/bytes'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'
import TargetForm from './TargetForm.vue'

// The places where copies of versions are kept, and how each stands.
type Target = Schemas['Target']
const session = useSession()
const admin = session.may('admin')
const operator = session.may('operator')
const { data: all, error, refetch } = useQuery({ key: ['deed', 'targets'], query: () => listAll<Target>('/targets'), staleTime: 2000 })
const editing = ref<Target | 'new'>()
const { busy, trouble, attempt } = useAttempt()
const at = (t: Target) => '/targets/' + encodeURIComponent(t.name)
const retry = (t: Target) => attempt(async () => (await post(at(t) + '/retry', {}), await refetch()))
const drop = (t: Target) =>
  attempt(async () => {
    if (confirm(`Forget ${t.name}? What is there stays there.`)) (await call('DELETE', at(t)), await refetch())
  })
const kept = async () => ((editing.value = undefined), await refetch())
const columns: Column<Target>[] = [
  { id: 'name', label: 'Target', value: (t) => t.name, width: 'minmax(6rem, 1fr)', card: 'lead' },
  { id: 'where', label: 'Where', value: (t) => t.where, width: 'minmax(12rem, 3fr)' },
  { id: 'state', label: 'State', value: (t) => t.state, width: '7rem', card: 'lead' },
  { id: 'there', label: 'There', value: (t) => t.there, width: '5rem', right: true },
  { id: 'waiting', label: 'Waiting', value: (t) => t.waiting, width: '5rem', right: true },
  { id: 'bytes', label: 'Size', value: (t) => t.bytes, width: '6rem', right: true },
  { id: 'room', label: 'Room', value: (t) => t.room, width: '8rem' },
  { id: 'reached', label: 'Reached', value: (t) => t.reached_at, width: '7rem' },
  { id: 'deeds', label: '', width: '15.5rem' },
]
const mark = { failing: 'text-alarm', 'in step': 'text-added-ink' } as Record<string, string>
</script>

<template>
  <section aria-labelledby="targets">
    <h2 id="targets" class="mb-1">Copies elsewhere</h2>
    <p class="mb-2 max-w-prose text-faded">
      Every version is copied to each target soon after it was taken: sealed, unless readable files were chosen; a Git repository gets
      masked text. Sealed files can be read without this service by who has the key: a file there says how. What is damaged here is mended
      from there.
    </p>
    <AppButton v-if="admin" class="mb-2" @click="editing = 'new'">Add a target</AppButton>
    <ProblemNote :error="error ?? (editing ? undefined : trouble)" class="mb-2" />
    <DataTable v-if="all" name="Targets" :columns="columns" :rows="all" :row-id="(t: Target) => t.name">
      <template #where="{ row: t }"
        ><span class="break-all">{{ t.where }}</span>
        <span v-if="t.files === 'plain'" class="block text-alarm">readable, with passwords and keys</span>
        <span v-else-if="t.files === 'masked'" class="block text-faded">readable, secrets hidden</span></template
      >
      <template #state="{ row: t }"
        ><span :class="mark[t.state]">{{ t.state }}</span></template
      >
      <template #bytes="{ row: t }">{{ bytes(t.bytes) }}</template>
      <template #room="{ row: t }"
        ><template v-if="t.room !== undefined"
          >{{ bytes(t.room) }}<template v-if="t.full_in !== undefined">, {{ t.full_in }} days</template></template
        ></template
      >
      <template #reached="{ row: t }"><TimeMark v-if="t.reached_at" :at="t.reached_at" /></template>
      <template #deeds="{ row: t }"
        ><span class="flex gap-1"
          ><AppButton v-if="operator" small :busy="busy" :aria-label="'Try ' + t.name" @click="retry(t)">Try now</AppButton
          ><AppButton v-if="admin" small :aria-label="'Change ' + t.name" @click="editing = t">Change</AppButton
          ><AppButton v-if="admin" small :aria-label="'Remove ' + t.name" @click="drop(t)">Remove</AppButton></span
        ></template
      >
      <template #none
        ><EmptyNote title="No copies are kept elsewhere">What is kept is on this service's disk only. Add a target.</EmptyNote></template
      >
    </DataTable>
    <ul v-if="all?.some((t) => t.trouble)" class="mt-2 grid gap-1">
      <li v-for="t in all.filter((x) => x.trouble)" :key="t.name">
        <b class="text-alarm">{{ t.name }}</b> {{ t.trouble }}
      </li>
    </ul>
    <TargetForm v-if="editing" :target="editing === 'new' ? undefined : editing" @kept="kept" @leave="editing = undefined" />
  </section>
</template>
