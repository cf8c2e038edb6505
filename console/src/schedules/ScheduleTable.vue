<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, post, type Job, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { when } from '../composables/time'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppForm from '../design/AppForm.vue'
import DataTable from '../design/DataTable.vue'
import ModalDialog from '../design/ModalDialog.vue'
import ProblemNote from '../design/ProblemNote.vue'
import StateMark from '../design/StateMark.vue'
import type { Column } from '../design/table'
import { useSession } from '../session'
import { deedSaid } from './rule'
import ScheduleForm from './ScheduleForm.vue'
import { once } from '../composables/once'
import { several } from '../composables/several'

// All schedules: what each does and when, how it went last, and what can be done with it.
type Schedule = Schemas['Schedule']
defineProps<{ schedules: Schedule[] }>()
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const operator = useSession().may('operator')
const changing = ref<Schedule>()
const removing = ref<Schedule>()
const { busy, trouble, attempt } = useAttempt()
const at = (x: Schedule) => '/schedules/' + encodeURIComponent(x.name)
const run = (x: Schedule) =>
  attempt(async () => {
    const j = await post<Job>(at(x) + '/run', {}, { 'Idempotency-Key': once() })
    void router.push('/jobs/' + j.id)
  })
const pause = (x: Schedule) => attempt(async () => (await post(at(x) + (x.paused ? '/resume' : '/pause')), emit('changed')))
const remove = () => attempt(async () => (await call('DELETE', at(removing.value!)), (removing.value = undefined), emit('changed')))
const deeds = (x: Schedule): Deed[] => [
  { label: 'Do it now', run: () => run(x) },
  { label: 'Change…', run: () => (changing.value = x) },
  { label: x.paused ? 'Resume' : 'Pause', run: () => pause(x) },
  { label: 'Forget it…', run: () => (removing.value = x), danger: true },
]
const saved = () => ((changing.value = undefined), emit('changed'))
const columns: Column<Schedule>[] = [
  { id: 'name', label: 'Schedule', value: (x) => x.name, width: 'minmax(8rem, 1fr)', always: true, card: 'lead' },
  { id: 'rule', label: 'When', value: (x) => x.rule, width: 'minmax(9rem, 1.2fr)' },
  { id: 'does', label: 'Does', value: (x) => x.deeds.map(deedSaid).join(', then '), width: 'minmax(9rem, 1.4fr)' },
  { id: 'selector', label: 'Of', value: (x) => several(x.selector), width: 'minmax(8rem, 1fr)' },
  { id: 'next', label: 'Due next', value: (x) => x.next[0]?.at ?? '', width: '9.5rem' },
  { id: 'last', label: 'Last', value: (x) => x.last?.state ?? '', width: 'minmax(8rem, 1fr)' },
  { id: 'by', label: 'Saved by', value: (x) => x.changed_by, width: 'minmax(6rem, 0.6fr)' },
  { id: 'note', label: 'Why', value: (x) => x.note ?? '', width: 'minmax(9rem, 1.5fr)', from: 1500 },
  { id: 'deeds', label: '', width: '3.5rem', always: true },
]
</script>

<template>
  <ProblemNote :error="trouble" class="mb-2" />
  <DataTable
    name="Schedules"
    :columns="columns"
    :rows="schedules"
    :row-id="(x: Schedule) => x.name"
    @open="(x: Schedule) => operator && (changing = x)"
  >
    <template #name="{ row: x }"
      ><b>{{ x.name }}</b></template
    >
    <template #rule="{ row: x }"
      >{{ x.rule }} <span class="block text-faded">{{ x.zone }}</span></template
    >
    <template #selector="{ row: x }"
      >{{ several(x.selector) }}
      <span class="block text-faded">{{ x.devices }} now{{ x.spread ? ', over ' + x.spread : '' }}</span></template
    >
    <template #next="{ row: x }"
      ><StateMark v-if="x.paused" state="paused" /><template v-else>{{
        x.next.length ? when(x.next[0].at) : 'never again'
      }}</template></template
    >
    <template #last="{ row: x }"
      ><RouterLink v-if="x.last?.job" :to="'/jobs/' + x.last.job" :title="x.last.summary"><StateMark :state="x.last.state" /></RouterLink
      ><span v-else class="text-faded">not yet</span></template
    >
    <template #deeds="{ row: x }"><ActionMenu v-if="operator" icon :label="'What to do with ' + x.name" :deeds="deeds(x)" /></template>
    <template #none><slot /></template>
  </DataTable>
  <ScheduleForm v-if="changing" :schedule="changing" @close="changing = undefined" @saved="saved" />
  <ModalDialog v-if="removing" :title="`Forget ${removing.name}?`" @close="removing = undefined">
    <AppForm :busy="busy" deed="Forget it" leaves @send="remove" @leave="removing = undefined">
      <p>{{ removing.rule }} in {{ removing.zone }}: {{ removing.deeds.map(deedSaid).join(', then ') }}. What it did stays.</p>
    </AppForm>
  </ModalDialog>
</template>
