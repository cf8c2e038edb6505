<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { call, listAll, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import ProblemNote from '../design/ProblemNote.vue'
import StateMark from '../design/StateMark.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'
import CredentialForm from './CredentialForm.vue'
import CredentialUsers from './CredentialUsers.vue'
import { several } from '../composables/several'

// Logins that many devices share: who uses which, where one was refused, and trying it
// again once it was put right.
type Set = Schemas['CredentialSet']
const session = useSession()
const operator = session.may('operator')
const admin = session.may('admin')
const { data: all, error } = useQuery({ key: ['deed', 'credentials'], query: () => listAll<Set>('/credentials') })
const editing = ref<Set | 'new'>()
const looking = ref<Set>()
const { trouble, attempt } = useAttempt()
const at = (s: Set) => '/credentials/' + encodeURIComponent(s.name)
const deeds = (s: Set): Deed[] => [
  { label: 'Who uses it', run: () => (looking.value = s) },
  ...(operator.value && (s.locked || s.breaker_open_since)
    ? [{ label: 'Let it be tried again, everywhere', run: () => attempt(() => post(at(s) + '/retry')) }]
    : []),
  ...(admin.value
    ? [
        { label: 'Change it…', run: () => (editing.value = s) },
        { label: 'Delete it', danger: true, off: s.devices > 0, run: () => attempt(() => call('DELETE', at(s))) },
      ]
    : []),
]
const columns: Column<Set>[] = [
  { id: 'name', label: 'Set', value: (s) => s.name, width: 'minmax(7rem, 1fr)' },
  { id: 'user', label: 'User', value: (s) => s.user, width: 'minmax(6rem, 1fr)' },
  { id: 'devices', label: 'Devices', value: (s) => s.devices, width: '6rem', right: true },
  { id: 'state', label: 'State', width: 'minmax(12rem, 2fr)' },
  { id: 'changed', label: 'Changed', value: (s) => s.changed_at, width: '8rem', first: 'down' },
  { id: 'selector', label: 'New devices that get it', value: (s) => several((s.selector ?? '').split(' ')), width: 'minmax(8rem, 1fr)' },
  { id: 'deeds', label: '', width: '3rem' },
]
</script>

<template>
  <ProblemNote :error="error ?? trouble" class="mb-2" />
  <p v-if="admin" class="mb-2"><AppButton @click="editing = 'new'">Make a credential set</AppButton></p>
  <DataTable v-if="all" name="Credential sets" :columns="columns" :rows="all" :row-id="(s: Set) => s.name">
    <template #name="{ row: s }"
      ><button type="button" class="link font-semibold" @click="looking = s">{{ s.name }}</button></template
    >
    <template #state="{ row: s }">
      <template v-if="s.breaker_open_since"><StateMark state="suspended" />: {{ s.breaker_why }}</template>
      <template v-else-if="s.locked"
        ><StateMark state="login refused" word="refused" /> by {{ s.locked }} {{ s.locked === 1 ? 'device' : 'devices' }}</template
      >
      <StateMark v-else state="in sync" word="accepted" />
    </template>
    <template #changed="{ row: s }"><TimeMark :at="s.changed_at" /></template>
    <template #deeds="{ row: s }"><ActionMenu icon :label="'What to do with ' + s.name" :deeds="deeds(s)" /></template>
    <template #none
      ><EmptyNote title="No credential sets">
        Each device has a login of its own. A set is one login that many share, changed in one place.
      </EmptyNote></template
    >
  </DataTable>
  <CredentialForm v-if="editing" :set="editing === 'new' ? undefined : editing" @close="editing = undefined" />
  <CredentialUsers v-if="looking" :set="looking" @close="looking = undefined" />
</template>
