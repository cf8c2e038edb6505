<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { call, listAll, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'
import { several } from '../composables/several'

// Devices to which nobody pushes alone.
type Rule = Schemas['Approval']
const admin = useSession().may('admin')
const { data: all, error } = useQuery({ key: ['deed', 'approvals'], query: () => listAll<Rule>('/approvals') })
const selector = ref('')
const { busy, trouble, attempt } = useAttempt()
const add = () =>
  attempt(async () => {
    await post('/approvals', { selector: selector.value.trim().split(/\s+/) })
    selector.value = ''
  })
const dropping = useAttempt()
const drop = (r: Rule) => dropping.attempt(() => call('DELETE', '/approvals/' + r.id))
const columns: Column<Rule>[] = [
  { id: 'selector', label: 'A second person approves pushes to', value: (r) => several(r.selector), width: 'minmax(12rem, 3fr)' },
  { id: 'by', label: 'Made by', value: (r) => r.made_by },
  { id: 'since', label: 'Since', value: (r) => r.made_at, first: 'down', width: 'minmax(9.5rem, 1fr)' },
  { id: 'deeds', label: '', width: '8rem' },
]
</script>

<template>
  <ProblemNote :error="error ?? dropping.trouble.value" class="mb-2" />
  <AppForm
    v-if="admin"
    class="mb-3 max-w-2xl"
    :busy="busy"
    :trouble="trouble"
    deed="Ask for a second person"
    :unable="!selector.trim()"
    @send="add"
  >
    <FormField v-model="selector" label="Pushes to which devices" name="approval-selector" placeholder="site=control kind=firewall" />
  </AppForm>
  <DataTable v-if="all" name="Approval rules" :columns="columns" :rows="all" :row-id="(r: Rule) => r.id">
    <template #selector="{ row: r }"
      ><span class="mono">{{ several(r.selector) }}</span></template
    >
    <template #since="{ row: r }"><TimeMark :at="r.made_at" exact /></template>
    <template #deeds="{ row: r }"
      ><AppButton v-if="admin" small :busy="dropping.busy.value" :aria-label="'No longer for ' + several(r.selector)" @click="drop(r)"
        >No longer</AppButton
      ></template
    >
    <template #none
      ><EmptyNote title="Everybody who may push pushes alone">A rule asks for a second person, for some devices.</EmptyNote></template
    >
  </DataTable>
</template>
