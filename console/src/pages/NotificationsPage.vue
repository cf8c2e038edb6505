<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { listAll, type Schemas } from '../api/call'
import ProblemNote from '../design/ProblemNote.vue'
import TabBar from '../design/TabBar.vue'
import MailServer from '../notifications/MailServer.vue'
import MessageTable from '../notifications/MessageTable.vue'
import RecipientTable from '../notifications/RecipientTable.vue'
import RuleTable from '../notifications/RuleTable.vue'

// Who is told what, by what way, and what they were told.
const { data: recipients, error } = useQuery({
  key: ['deed', 'recipients'],
  query: () => listAll<Schemas['Recipient']>('/recipients'),
})
const tabs = [
  { name: 'rules', label: 'Rules' },
  { name: 'recipients', label: 'Recipients' },
  { name: 'messages', label: 'Messages' },
  { name: 'mail', label: 'Mail server' },
]
</script>

<template>
  <h1 class="mb-2">Notifications</h1>
  <ProblemNote :error="error" class="mb-2" />
  <TabBar v-if="recipients" :tabs="tabs" label="Notifications">
    <template #rules><RuleTable :recipients="recipients" /></template>
    <template #recipients><RecipientTable :recipients="recipients" /></template>
    <template #messages><MessageTable /></template>
    <template #mail><MailServer /></template>
  </TabBar>
</template>
