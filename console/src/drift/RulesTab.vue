<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { call, get, listAll, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import { useSession } from '../session'
import RuleFinds from './RuleFinds.vue'
import RuleForm from './RuleForm.vue'
import { says } from './rule'
import { several } from '../composables/several'

// What people say of lines of devices of theirs, beside what dialects know.
type Rule = Schemas['Rule']
const operator = useSession().may('operator')
const { data: all, error, refetch } = useQuery({ key: ['deed', 'rules'], query: () => listAll<Rule>('/rules') })
const editing = ref<Rule | 'new'>()
const shown = ref<Schemas['RuleFinds']>()
const { busy, trouble, attempt } = useAttempt()
const path = (name: string) => '/rules/' + encodeURIComponent(name)
const show = (name: string) => attempt(async () => void (shown.value = await get(path(name))))
const drop = (name: string) =>
  attempt(async () => {
    await call('DELETE', path(name))
    if (shown.value?.rule.name === name) shown.value = undefined
    await refetch()
  })
async function kept(name: string) {
  editing.value = undefined
  await refetch()
  await show(name)
}
const columns: Column<Rule>[] = [
  { id: 'name', label: 'Rule', value: (r) => r.name },
  { id: 'kind', label: 'Lines', value: (r) => says[r.kind] ?? r.kind, width: '10rem' },
  { id: 'path', label: 'On the path', value: (r) => r.path, width: 'minmax(14rem, 3fr)' },
  { id: 'of', label: 'Of', value: (r) => `${several(r.selector)}, ${r.dialect}` },
  { id: 'by', label: 'By', value: (r) => r.changed_by, width: '6rem' },
  { id: 'deeds', label: '', width: '15rem' },
]
</script>

<template>
  <p class="mb-2 max-w-prose text-faded">
    An ignored line does not count in comparisons and for drift; what is kept as a version, and what is proved after a push, goes by the
    dialect alone. A line that must be there and is not, or must not be there and is, is drift.
  </p>
  <AppButton v-if="operator" class="mb-2" @click="editing = 'new'">Add a rule</AppButton>
  <ProblemNote :error="error ?? trouble" class="mb-2" />
  <DataTable v-if="all" name="Rules" :columns="columns" :rows="all" :row-id="(r: Rule) => r.name">
    <template #path="{ row: r }"
      ><code v-if="r.path">{{ r.path }}</code
      ><span v-else class="text-faded">a text with variables</span></template
    >
    <template #deeds="{ row: r }"
      ><span class="flex gap-1"
        ><AppButton small :busy="busy" :aria-label="'What ' + r.name + ' finds'" @click="show(r.name)">Show</AppButton
        ><template v-if="operator"
          ><AppButton v-if="r.kind !== 'template'" small :aria-label="'Change ' + r.name" @click="editing = r">Change</AppButton
          ><AppButton small :busy="busy" :aria-label="'Remove ' + r.name" @click="drop(r.name)">Remove</AppButton></template
        ></span
      ></template
    >
    <template #none
      ><EmptyNote title="No rules yet">Say that a line is noise, or has to be on every router, or must not be on any.</EmptyNote></template
    >
  </DataTable>
  <RuleFinds v-if="shown" :found="shown" class="mt-3" />
  <RuleForm v-if="editing" :rule="editing === 'new' ? undefined : editing" @close="editing = undefined" @kept="kept" />
</template>
