<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { call, listAll, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { when } from '../composables/time'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import ModalDialog from '../design/ModalDialog.vue'
import ProblemNote from '../design/ProblemNote.vue'
import StateMark from '../design/StateMark.vue'
import type { Column } from '../design/table'
import { useSession } from '../session'
import MailFirst from './MailFirst.vue'
import RuleForm from './RuleForm.vue'
import { several } from '../composables/several'

// Of what people are told: the rules.
type Rule = Schemas['NotificationRule']
defineProps<{ recipients: Schemas['Recipient'][] }>()
const session = useSession()
const admin = session.may('admin')
const operator = session.may('operator')
const { data: rules, error, refetch } = useQuery({ key: ['deed', 'tell rules'], query: () => listAll<Rule>('/notification-rules') })
const changing = ref<Partial<Rule>>()
const removing = ref<Rule>()
const first = ref(false)
const { busy, trouble, attempt } = useAttempt()
const at = (r: Rule) => '/notification-rules/' + encodeURIComponent(r.name)
const pause = (r: Rule) => attempt(async () => (await post(at(r) + (r.paused ? '/resume' : '/pause')), refetch()))
const remove = () => attempt(async () => (await call('DELETE', at(removing.value!)), (removing.value = undefined), refetch()))
const deeds = (r: Rule): Deed[] => [
  ...(admin ? [{ label: 'Change…', run: () => (changing.value = r) }] : []),
  { label: r.paused ? 'Resume' : 'Pause', run: () => pause(r) },
  ...(admin ? [{ label: 'Forget it…', run: () => (removing.value = r), danger: true }] : []),
]
const saved = () => ((changing.value = undefined), (first.value = false), void refetch())
const columns: Column<Rule>[] = [
  { id: 'name', label: 'Rule', value: (r) => r.name, width: 'minmax(8rem, 1fr)', always: true, card: 'lead' },
  { id: 'events', label: 'Tells of', value: (r) => r.events.join(', '), width: 'minmax(9rem, 1.6fr)' },
  { id: 'selector', label: 'Of', value: (r) => several(r.selector), width: 'minmax(7rem, 1fr)' },
  { id: 'to', label: 'To', value: (r) => r.recipients.join(', '), width: 'minmax(7rem, 1fr)' },
  { id: 'when', label: 'When', value: (r) => r.digest, width: 'minmax(9rem, 1.2fr)' },
  { id: 'by', label: 'Saved by', value: (r) => r.changed_by, width: 'minmax(6rem, 0.6fr)' },
  { id: 'note', label: 'Why', value: (r) => r.note ?? '', width: 'minmax(9rem, 1.5fr)', from: 1500 },
  { id: 'deeds', label: '', width: '3.5rem', always: true },
]
</script>

<template>
  <ProblemNote :error="error ?? trouble" class="mb-2" />
  <div v-if="admin && rules?.length" class="mb-3 flex justify-end">
    <AppButton main :disabled="!recipients.length" @click="changing = {}">Add a rule</AppButton>
  </div>
  <DataTable v-if="rules" name="Rules for telling" :columns="columns" :rows="rules" :row-id="(r: Rule) => r.name">
    <template #name="{ row: r }"
      ><b>{{ r.name }}</b> <StateMark v-if="r.paused" state="paused"
    /></template>
    <template #selector="{ row: r }"
      >{{ several(r.selector) }} <span class="block text-faded">{{ r.devices }} now</span></template
    >
    <template #when="{ row: r }"
      >{{ r.digest || 'at once' }}
      <span v-if="r.next" class="block text-faded">next {{ when(r.next) }}</span>
      <span v-for="q in r.quiet" :key="q" class="block text-faded">not {{ q }} ({{ r.zone }})</span></template
    >
    <template #deeds="{ row: r }"><ActionMenu v-if="operator" icon :label="'What to do with ' + r.name" :deeds="deeds(r)" /></template>
    <template #none
      ><EmptyNote title="Nobody is told anything yet">
        A backup that fails in silence is found out on the day it is needed.
        <span v-if="admin" class="mt-2 flex flex-wrap justify-center gap-2"
          ><AppButton main @click="first = true">Send mail when something fails…</AppButton
          ><AppButton v-if="recipients.length" @click="changing = {}">Make a rule…</AppButton></span
        >
      </EmptyNote></template
    >
  </DataTable>
  <RuleForm v-if="changing" :rule="changing" :recipients="recipients" @close="changing = undefined" @saved="saved" />
  <MailFirst v-if="first" @close="first = false" @saved="saved" />
  <ModalDialog v-if="removing" :title="`Forget ${removing.name}?`" @close="removing = undefined">
    <AppForm :busy="busy" deed="Forget it" leaves @send="remove" @leave="removing = undefined">
      <p>{{ removing.recipients.join(', ') }} will not be told of {{ removing.events.join(', ') }} by it any more.</p>
    </AppForm>
  </ModalDialog>
</template>
