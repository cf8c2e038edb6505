<script setup lang="ts">
import { ref } from 'vue'
import { call, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import CopyButton from '../design/CopyButton.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import ModalDialog from '../design/ModalDialog.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import { useSession } from '../session'
import RecipientForm from './RecipientForm.vue'
import TestSteps from './TestSteps.vue'

// Who can be told, and by what way.
type Recipient = Schemas['Recipient']
defineProps<{ recipients: Recipient[] }>()
const admin = useSession().may('admin')
const changing = ref<Partial<Recipient>>()
const removing = ref<Recipient>()
const made = ref<Recipient>()
const tested = ref<Schemas['Tested']>()
const { busy, trouble, attempt } = useAttempt()
const at = (r: Recipient) => '/recipients/' + encodeURIComponent(r.name)
const test = (r: Recipient) => attempt(async () => (tested.value = await post<Schemas['Tested']>(at(r) + '/test')))
const remove = () => attempt(async () => (await call('DELETE', at(removing.value!)), (removing.value = undefined)))
const deeds = (r: Recipient): Deed[] => [
  { label: 'Send a test', run: () => test(r) },
  { label: 'Change…', run: () => (changing.value = r) },
  { label: 'Forget it…', run: () => (removing.value = r), danger: true },
]
const saved = (r: Recipient) => ((changing.value = undefined), (made.value = r.secret ? r : undefined))
const where = (r: Recipient) => r.to?.join(', ') || r.url || `${r.address} by ${r.transport}`
const columns: Column<Recipient>[] = [
  { id: 'name', label: 'Recipient', value: (r) => r.name, width: 'minmax(8rem, 1fr)', always: true, card: 'lead' },
  { id: 'kind', label: 'By', value: (r) => r.kind, width: '6rem' },
  { id: 'to', label: 'To', value: where, width: 'minmax(12rem, 2fr)' },
  { id: 'rules', label: 'Told by', value: (r) => r.rules.join(', '), width: 'minmax(8rem, 1fr)' },
  { id: 'audit', label: 'Audit log', value: (r) => (r.audit ? 'is sent there' : ''), width: 'minmax(7rem, 0.7fr)' },
  { id: 'by', label: 'Saved by', value: (r) => r.changed_by, width: 'minmax(6rem, 0.6fr)' },
  { id: 'deeds', label: '', width: '3.5rem', always: true },
]
</script>

<template>
  <ProblemNote :error="trouble" class="mb-2" />
  <p v-if="made" class="note mb-3" role="status">
    Requests to <b>{{ made.name }}</b> are signed (RFC 9421, hmac-sha256) with this secret, which is not shown again:
    <code class="mono select-all">{{ made.secret }}</code> <CopyButton :text="() => made!.secret!" />
  </p>
  <div v-if="admin" class="mb-3 flex justify-end"><AppButton main @click="changing = {}">Add a recipient</AppButton></div>
  <DataTable name="Recipients" :columns="columns" :rows="recipients" :row-id="(r: Recipient) => r.name">
    <template #name="{ row: r }"
      ><b>{{ r.name }}</b></template
    >
    <template #rules="{ row: r }"
      ><template v-if="r.rules.length">{{ r.rules.join(', ') }}</template
      ><span v-else class="text-faded">no rule</span></template
    >
    <template #deeds="{ row: r }"><ActionMenu v-if="admin" icon :label="'What to do with ' + r.name" :deeds="deeds(r)" /></template>
    <template #none><EmptyNote title="Nobody can be told yet">By mail, by a webhook that is signed, or by syslog.</EmptyNote></template>
  </DataTable>
  <RecipientForm v-if="changing" :recipient="changing" @close="changing = undefined" @saved="saved" />
  <ModalDialog v-if="tested" :title="`A test for ${tested.recipient}`" @close="tested = undefined"
    ><TestSteps :tested="tested"
  /></ModalDialog>
  <ModalDialog v-if="removing" :title="`Forget ${removing.name}?`" @close="removing = undefined">
    <AppForm :busy="busy" :trouble="trouble" deed="Forget it" leaves @send="remove" @leave="removing = undefined">
      <p>What still waits to be sent to {{ where(removing) }} is dropped.</p>
    </AppForm>
  </ModalDialog>
</template>
