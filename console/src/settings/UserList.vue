<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'
import { call, listAll, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import DataTable from '../design/DataTable.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import ProblemNote from '../design/ProblemNote.vue'
import StateMark from '../design/StateMark.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { several } from '../composables/several'

// Who may sign in, as what.
type User = Schemas['User']
const { data: all, error } = useQuery({ key: ['deed', 'users'], query: () => listAll<User>('/users') })
const { data: provider } = useQuery({
  key: ['deed', 'sign-on'],
  query: async () => (await call<Schemas['SignOn']>('GET', '/sign-on')).label,
})
const editing = ref<User | 'new'>()
const form = reactive({
  scope: '',
  name: '',
  password: '',
  role: 'reader',
  secrets: false,
  disabled: false,
  lasting: false,
  no_codes: false,
  subject: '',
})
const { busy, trouble, attempt } = useAttempt()
function edit(u: User | 'new') {
  trouble.value = undefined
  Object.assign(
    form,
    { name: '', password: '', role: 'reader', secrets: false, disabled: false, lasting: false, no_codes: false },
    u === 'new' ? {} : u,
    {
      secrets: u !== 'new' && u.secrets_granted,
      password: '',
      subject: u === 'new' ? '' : (u.subject ?? ''),
      scope: u === 'new' ? '' : u.scope.join(' '),
    },
  )
  editing.value = u
}
const send = () =>
  attempt(async () => {
    const { name, password, role, secrets, disabled, lasting, no_codes, subject } = form
    const scope = role === 'operator' ? form.scope.split(/\s+/).filter(Boolean) : []
    const u = editing.value
    if (u && u !== 'new')
      await call(
        'PATCH',
        '/users/' + encodeURIComponent(u.name),
        {
          password: password || undefined,
          role,
          scope,
          secrets: secrets === u.secrets_granted ? undefined : secrets, // what an admin may is not written down as theirs
          disabled,
          lasting,
          no_codes,
          subject: subject === (u.subject ?? '') ? undefined : subject,
        },
        { 'If-Match': `"${u.revision}"` },
      )
    else await post('/users', { name, password, role, scope, secrets, lasting, subject: subject || undefined })
    editing.value = undefined
  })
const roles = [
  { value: 'reader', label: 'reader: looks' },
  { value: 'operator', label: 'operator: pulls and pushes' },
  { value: 'admin', label: 'admin: everything' },
]
const columns: Column<User>[] = [
  { id: 'name', label: 'User', value: (u) => u.name },
  { id: 'role', label: 'Role', value: (u) => u.role + (u.scope.length ? ' for ' + several(u.scope) : ''), width: 'minmax(8rem, 1.5fr)' },
  { id: 'secrets', label: 'Sees secrets', value: (u) => (u.secrets ? 'yes' : 'no') },
  { id: 'state', label: 'State', value: (u) => (u.disabled ? 'disabled' : 'may sign in') },
  { id: 'codes', label: 'Codes', value: (u) => (u.codes ? 'yes' : 'no') },
  { id: 'since', label: 'Since', value: (u) => u.made_at, first: 'down', width: 'minmax(9.5rem, 1fr)' },
  { id: 'deeds', label: '', width: '7rem' },
]
</script>

<template>
  <ProblemNote :error="error" class="mb-2" />
  <p class="mb-2"><AppButton @click="edit('new')">Add a user</AppButton></p>
  <DataTable v-if="all" name="Users" :columns="columns" :rows="all" :row-id="(u: User) => u.name">
    <template #state="{ row: u }"
      ><StateMark
        :state="u.disabled ? 'cancelled' : 'in sync'"
        :word="u.disabled ? 'disabled' : u.must_change ? 'chooses a password' : 'may sign in'"
    /></template>
    <template #since="{ row: u }"><TimeMark :at="u.made_at" exact /></template>
    <template #deeds="{ row: u }"><AppButton small :aria-label="'Change ' + u.name" @click="edit(u)">Change</AppButton></template>
  </DataTable>
  <ModalDialog v-if="editing" :title="editing === 'new' ? 'Add a user' : `Change ${editing.name}`" @close="editing = undefined">
    <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Keep" leaves @send="send" @leave="editing = undefined">
      <FormField v-if="editing === 'new'" v-model.trim="form.name" label="Name" name="user-name" :problem="problem('name')" required />
      <FormField
        v-model="form.password"
        label="Password"
        name="user-password"
        type="password"
        autocomplete="new-password"
        :problem="problem('password')"
        :required="editing === 'new' && !form.subject"
        :hint="editing === 'new' ? '' : 'left empty, it stays as it is'"
      />
      <FormField
        v-if="form.password"
        v-model="form.lasting"
        type="check"
        label="it stays; otherwise they choose another one first"
        name="user-lasting"
      />
      <FormField v-model="form.role" label="Role" name="user-role" type="select" :options="roles" />
      <FormField
        v-if="form.role === 'operator'"
        v-model="form.scope"
        label="For which devices"
        name="user-scope"
        placeholder="site=callowmere"
        hint="empty: for all; beyond them they look, and see no secrets"
        :problem="problem('scope')"
      />
      <FormField
        v-if="provider"
        v-model.trim="form.subject"
        label="Known to the provider as"
        name="user-subject"
        hint="the ID that it refused a sign-in with; empty: it does not sign them in"
        :problem="problem('subject')"
      />
      <FormField v-model="form.secrets" type="check" label="may see secrets" name="user-secrets" />
      <FormField v-if="editing !== 'new'" v-model="form.disabled" type="check" label="may not sign in" name="user-disabled" />
      <FormField
        v-if="editing !== 'new' && editing.codes"
        v-model="form.no_codes"
        type="check"
        label="sign-ins take no one-time codes any more: the device is lost"
        name="user-no-codes"
      />
    </AppForm>
  </ModalDialog>
</template>
