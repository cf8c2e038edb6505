<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { get, post, query, type Page, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { when } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FactList from '../design/FactList.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import SideDrawer from '../design/SideDrawer.vue'
import StateMark from '../design/StateMark.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'

// What people were told and are to be, newest first.
type Message = Schemas['Message']
const operator = useSession().may('operator')
const state = ref('')
const before = ref('')
const { data, error, refetch } = useQuery({
  key: () => ['deed', 'messages', state.value, before.value],
  query: () => get<Page<Message>>('/messages' + query({ state: state.value, cursor: before.value, limit: 100 })),
})
const shown = ref<Message>()
const { busy, trouble, attempt } = useAttempt()
const show = (m: Message) => attempt(async () => (shown.value = await get<Message>('/messages/' + m.id)))
const retry = () => attempt(async () => ((shown.value = await post<Message>(`/messages/${shown.value!.id}/retry`)), refetch()))
const states = ['', 'waiting', 'sent', 'failed', 'dropped'].map((s) => ({ value: s, label: s || 'in every state' }))
const facts = computed(() => {
  const m = shown.value!
  return [
    { word: 'state' },
    { word: 'rule', says: m.rule },
    { word: 'to', says: [m.recipient, m.address].filter(Boolean).join(', ') },
    { word: 'made', says: when(m.made_at) },
    { word: 'tries', says: m.tries },
    { word: 'trouble', says: m.trouble },
    { word: 'tried next', says: m.next_at && when(m.next_at) },
  ]
})
const columns: Column<Message>[] = [
  { id: 'state', label: 'State', value: (m) => m.state, width: '7rem', card: 'lead' },
  { id: 'made', label: 'Made', value: (m) => m.made_at, width: '9.5rem', first: 'down', card: 'lead' },
  { id: 'rule', label: 'Rule', value: (m) => m.rule, width: 'minmax(6rem, 0.7fr)' },
  { id: 'to', label: 'To', value: (m) => m.address || m.recipient, width: 'minmax(13rem, 1fr)' },
  { id: 'says', label: 'Says', value: (m) => m.subject, width: 'minmax(12rem, 2.5fr)', card: 'bare', always: true },
  { id: 'trouble', label: 'Trouble', value: (m) => m.trouble ?? '', width: 'minmax(8rem, 1.5fr)' },
]
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <span class="w-44"
      ><FormField v-model="state" bare label="State" name="message-state" type="select" :options="states" @change="before = ''"
    /></span>
    <span class="grow"></span>
    <AppButton v-if="before" @click="before = ''">Newest</AppButton>
    <AppButton v-if="data?.next" @click="before = data.next">Older</AppButton>
  </div>
  <ProblemNote :error="error ?? (shown ? undefined : trouble)" class="mb-2" />
  <DataTable v-if="data" name="Messages" :columns="columns" :rows="data.items" :row-id="(m: Message) => m.id" tall @open="show">
    <template #state="{ row: m }"><StateMark :state="m.state" /></template>
    <template #made="{ row: m }"><TimeMark :at="m.made_at" exact /></template>
    <template #says="{ row: m }"
      ><button type="button" class="link text-left" @click="show(m)">{{ m.subject }}</button></template
    >
    <template #none><EmptyNote title="Nobody was told anything yet">What a rule tells stands here for thirty days.</EmptyNote></template>
  </DataTable>
  <SideDrawer v-if="shown" :title="shown.subject" @close="shown = undefined">
    <FactList :facts="facts"
      ><template #state><StateMark :state="shown.state" /></template
    ></FactList>
    <ProblemNote :error="trouble" class="mt-2" />
    <AppButton v-if="operator && (shown.state === 'waiting' || shown.state === 'failed')" class="mt-2" :busy="busy" @click="retry"
      >Try it now</AppButton
    >
    <pre class="mono mt-3 overflow-x-auto text-xs" tabindex="0" aria-label="The message">{{ shown.text }}</pre>
  </SideDrawer>
</template>
