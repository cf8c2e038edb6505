<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'
import { call, listAll, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import CopyButton from '../design/CopyButton.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'
import OwnCodes from './OwnCodes.vue'
import OwnPassword from '../shell/OwnPassword.vue'
import SessionList from './SessionList.vue'

// The tokens by which your programs sign in as you.
type Token = Schemas['Token']
const { data: all, error, refetch } = useQuery({ key: ['deed', 'tokens'], query: () => listAll<Token>('/tokens') })
const session = useSession()
const chosen = ref(false)
const making = ref(false)
const made = ref('')
const form = reactive({ name: '', password: '', role: '', masked: true, days: 90 })
const roles = [
  { value: '', label: 'all that you may' },
  { value: 'reader', label: 'reader: looks' },
  { value: 'operator', label: 'operator: pulls and pushes' },
]
const { busy, trouble, attempt } = useAttempt()
const make = () =>
  attempt(async () => {
    const { name, password, role, masked, days } = form
    made.value = (await post<Schemas['MadeToken']>('/tokens', { name, password, role: role || undefined, masked, days })).token
    form.password = form.name = ''
    await refetch()
  })
const drop = (t: Token) => attempt(async () => (await call('DELETE', '/tokens/' + t.id), await refetch()))
const close = () => ((making.value = false), (made.value = ''))
const columns: Column<Token>[] = [
  { id: 'name', label: 'Token', value: (t) => t.name || t.id, width: 'minmax(8rem, 2fr)' },
  { id: 'made', label: 'Made', value: (t) => t.made_at, first: 'down', width: 'minmax(9.5rem, 1fr)' },
  { id: 'used', label: 'Used', value: (t) => t.used_at, first: 'down', width: 'minmax(9.5rem, 1fr)' },
  { id: 'may', label: 'At most', value: (t) => (t.role || 'all you may') + (t.masked ? ', no secrets' : ''), width: 'minmax(7rem, 1fr)' },
  { id: 'ends', label: 'Ends', value: (t) => t.expires, width: 'minmax(9.5rem, 1fr)' },
  { id: 'deeds', label: '', width: '7rem' },
]
</script>

<template>
  <ProblemNote :error="error ?? (making ? undefined : trouble)" class="mb-2" />
  <p class="mb-2"><AppButton @click="making = true">Make a token</AppButton></p>
  <DataTable v-if="all" name="Tokens" :columns="columns" :rows="all" :row-id="(t: Token) => t.id">
    <template #made="{ row: t }"><TimeMark :at="t.made_at" exact /></template>
    <template #used="{ row: t }"><TimeMark :at="t.used_at" /></template>
    <template #ends="{ row: t }"><TimeMark :at="t.expires" exact /></template>
    <template #deeds="{ row: t }"
      ><AppButton small :busy="busy" :aria-label="'End ' + (t.name || t.id)" @click="drop(t)">End it</AppButton></template
    >
    <template #none
      ><EmptyNote title="No tokens">A program signs in as you with a token; the command line makes its own.</EmptyNote></template
    >
  </DataTable>
  <SessionList />
  <div class="mt-5 grid max-w-3xl gap-5 sm:grid-cols-2">
    <section aria-labelledby="own-password">
      <h2 id="own-password" class="mb-1">Password</h2>
      <p v-if="session.me?.elsewhere">You have none here: a provider signs you in.</p>
      <p v-if="chosen" class="note mb-2" role="status">It is changed; your other sessions and tokens have ended.</p>
      <OwnPassword v-if="!session.me?.elsewhere" @chosen="((chosen = true), void refetch())" />
    </section>
    <OwnCodes v-if="!session.me?.elsewhere" />
  </div>
  <ModalDialog v-if="making" title="Make a token" @close="close">
    <template v-if="made">
      <p>It is shown once, now.</p>
      <p class="mono card p-2 break-all">{{ made }}</p>
      <span class="flex gap-2"><CopyButton :text="() => made">Copy</CopyButton><AppButton @click="close">Done</AppButton></span>
    </template>
    <AppForm v-else :busy="busy" :trouble="trouble" deed="Make it" leaves @send="make" @leave="close">
      <FormField v-model.trim="form.name" label="What it is for" name="token-name" placeholder="nightly report" required />
      <FormField v-model="form.role" label="It may" name="token-role" type="select" :options="roles" />
      <FormField v-model="form.masked" label="it sees no secrets" name="token-masked" type="check" />
      <FormField v-model="form.days" label="It ends after so many days" name="token-days" type="number" :min="1" :max="3650" />
      <FormField
        v-if="!session.me?.elsewhere"
        v-model="form.password"
        label="Your password"
        name="token-password"
        type="password"
        autocomplete="current-password"
        required
      />
    </AppForm>
  </ModalDialog>
</template>
