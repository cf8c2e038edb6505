<script setup lang="ts">
import { computed, toRef } from 'vue'
import { post } from '../api/call'
import CheckTable from '../components/CheckTable.vue'
import ConfirmPush from '../components/ConfirmPush.vue'
import JobLog from '../components/JobLog.vue'
import PlanPanel from '../components/PlanPanel.vue'
import ProblemNote from '../components/ProblemNote.vue'
import RestorePanel from '../components/RestorePanel.vue'
import DifferenceList from '../components/DifferenceList.vue'
import ResultFacts from '../components/ResultFacts.vue'
import StateMark from '../components/StateMark.vue'
import { useAttempt } from '../composables/attempt'
import { useJob } from '../composables/job'
import { when } from '../composables/time'
import { useSession } from '../session'

const props = defineProps<{ id: string }>()
const session = useSession()
const operator = session.may('operator')
const secrets = computed(() => session.me?.secrets)
const { job, log, trouble } = useJob(toRef(props, 'id'))
const { trouble: failed, attempt } = useAttempt()
const over = computed(() => job.value?.state === 'ended')
const waits = computed(() => job.value?.awaits && !job.value.decision)
const total = computed(() => log.value.filter((e) => e.kind === 'line').length)

const cancel = () => attempt(() => post('/jobs/' + encodeURIComponent(props.id) + '/cancel'))
const titles: Record<string, string> = { planned: 'planned push' }
const meaning: Record<string, string> = {
  equal: 'Proved: the device was pulled again and runs what was asked for.',
  unsaved: 'It runs what was asked for, but startup does not hold it: a restart would lose it.',
  differs: 'The device was pulled again, and these lines still differ.',
  undone: 'What was applied was taken back; the device runs what it ran before.',
  unknown: 'What the device runs is not known.',
}
</script>

<template>
  <ProblemNote :error="trouble" />
  <template v-if="job">
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <h1>
        {{ titles[job.kind] ?? job.kind }} {{ job.kind === 'restore-test' ? 'on' : 'of' }}
        <template v-if="['restore-preview', 'restore'].includes(job.kind) || !job.device">{{ job.device }}</template><RouterLink
          v-else
          :to="'/devices/' + job.device"
          >{{ job.device }}</RouterLink
        >
      </h1>
      <StateMark :state="job.outcome || job.state" />
      <span class="text-faded">asked for {{ when(job.created_at) }} by {{ job.actor }}</span>
      <span class="grow"></span>
      <button v-if="operator && !over && !waits" type="button" class="button" :disabled="job.cancel_asked" @click="cancel">
        {{ job.cancel_asked ? 'Stopping…' : 'Cancel' }}
      </button>
      <RouterLink v-if="operator && over && job.push?.before" class="button" :to="`/push?undo=${job.id}`"
        >Undo: put {{ job.push.before }} back</RouterLink
      >
    </div>
    <ProblemNote :error="failed" class="mb-3" />
    <ConfirmPush v-if="waits" :key="job.id + job.awaits" :job="job" :may="operator" />
    <div
      v-if="over || job.summary"
      class="card mb-4 border-l-4 p-3"
      :class="['equal', 'done'].includes(job.outcome ?? '') ? 'border-l-teal' : over ? 'border-l-alarm' : 'border-l-violet'"
      role="status"
    >
      <p class="text-base font-semibold"><StateMark :state="job.outcome || job.state" />: {{ job.summary }}</p>
      <p v-if="job.kind === 'push' && meaning[job.outcome ?? '']" class="mt-1">{{ meaning[job.outcome ?? ''] }}</p>
      <dl v-if="job.push?.refused" class="mt-2 grid grid-cols-[auto_1fr] gap-x-3 font-mono text-[13px]">
        <dt class="text-faded">refused line</dt>
        <dd>
          {{ job.push.refused.line }}<template v-if="job.push.refused.block">, in {{ job.push.refused.block }}</template
          >: {{ job.push.refused.text }}
        </dd>
        <dt class="text-faded">the device said</dt>
        <dd>{{ job.push.refused.answer }}</dd>
      </dl>
      <RouterLink v-if="job.push?.refused && operator && secrets" class="button mt-2" :to="'/edit?ref=' + job.push.target.split(',')[0]"
        >Edit the version, to go on without that line</RouterLink
      >
      <p v-if="job.push?.before && over" class="mt-1 text-faded">
        What ran before is kept as {{ job.push.before }}<template v-if="job.push.after">; what runs now as {{ job.push.after }}</template
        >.
      </p>
      <RouterLink v-if="job.preview" class="button mt-2" :to="'/push/' + job.preview">Look at the preview</RouterLink>
    </div>
    <p v-else class="mb-4 text-faded" role="status">
      Under way<template v-if="total">: {{ total }} steps sent</template>. This page follows it; leave and come back as you like.
    </p>
    <ResultFacts v-if="job.result" :result="job.result" />
    <PlanPanel :job="job" />
    <p v-if="job.restore_test" class="card mb-4 p-3">
      {{ job.restore_test.ref }} on {{ job.restore_test.on }}:
      <template v-if="job.restore_test.push"
        ><RouterLink :to="'/jobs/' + job.restore_test.push">the push there</RouterLink>,
        {{ job.restore_test.proved ? 'proved' : over ? 'not proved' : 'under way' }}</template
      >
      <template v-if="job.restore_test.back"
        >; <RouterLink :to="'/jobs/' + job.restore_test.back">what ran there before</RouterLink>,
        {{ job.restore_test.whole ? 'back' : over ? 'not back' : 'under way' }}</template
      >
    </p>
    <template v-if="job.learned?.draft"
      ><h2 class="mb-2">The rules as drafted</h2>
      <pre class="card mb-4 overflow-x-auto p-3 font-mono text-[13px]">{{ job.learned.draft }}</pre>
    </template>
    <RestorePanel v-if="job.restore_preview || job.restore" :key="job.id" :job="job" :may="operator" />
    <template v-if="job.push?.remaining?.length"
      ><h2 class="mb-2">Lines that differ</h2>
      <DifferenceList :differences="job.push.remaining" class="mb-4"
    /></template>
    <template v-if="job.push?.checks.length"
      ><h2 class="mb-2">Checks</h2>
      <CheckTable :checks="job.push.checks" class="mb-4"
    /></template>
    <h2 class="mb-2">Log</h2>
    <JobLog :log="log" />
  </template>
</template>
