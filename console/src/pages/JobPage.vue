<script setup lang="ts">
import { computed, toRef } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { useJob } from '../composables/job'
import { span, when } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import ProblemNote from '../design/ProblemNote.vue'
import StateMark from '../design/StateMark.vue'
import { aboutMany, useKinds } from '../jobs/kinds'
import ChecksPanel from '../jobs/ChecksPanel.vue'
import JobEnd from '../jobs/JobEnd.vue'
import JobLog from '../jobs/JobLog.vue'
import PlanPanel from '../jobs/PlanPanel.vue'
import PushProgress from '../jobs/PushProgress.vue'
import RestorePanel from '../jobs/RestorePanel.vue'
import RunPanel from '../jobs/RunPanel.vue'
import ResultFacts from '../jobs/ResultFacts.vue'
import TestPanel from '../jobs/TestPanel.vue'
import WaitBar from '../jobs/WaitBar.vue'
import CheckTable from '../push/CheckTable.vue'
import DifferenceList from '../push/DifferenceList.vue'
import { useSession } from '../session'
import CompareView from '../version/CompareView.vue'
import { once } from '../composables/once'

// One job, followed as it goes on; of a push the rest of its conversation.
const props = defineProps<{ id: string }>()
const operator = useSession().may('operator')
const { job, log, trouble } = useJob(toRef(props, 'id'))
const { trouble: failed, attempt } = useAttempt()
const over = computed(() => job.value?.state === 'ended')
const waits = computed(() => job.value?.awaits && !job.value.decision)
const cancel = () => attempt(() => post('/jobs/' + encodeURIComponent(props.id) + '/cancel'))
const router = useRouter()
const { data: kinds } = useKinds()
const repeats = computed(() => over.value && kinds.value?.find((k) => k.name === job.value?.kind)?.repeats)
const repeat = () =>
  attempt(async () => {
    const j = await post<Job>(`/jobs/${encodeURIComponent(props.id)}/repeat`, {}, { 'Idempotency-Key': once() })
    void router.push('/jobs/' + j.id)
  })
// A restore whose pushes wait to be confirmed is not over, whatever it ended as.
const state = computed(() =>
  job.value?.restore?.rows.some((r) => r.outcome === 'waiting') ? 'waiting' : job.value?.outcome || job.value?.state || '',
)
const titles: Record<string, string> = { planned: 'planned push', scheduled: 'scheduled run' }
const proof = computed(() => {
  const p = job.value?.push
  return over.value && job.value?.outcome !== 'undone' && p?.before && p.after && p.before !== p.after
    ? { from: p.before, to: p.after }
    : undefined
})
</script>

<template>
  <ProblemNote :error="trouble" />
  <div v-if="job" class="grid grid-cols-[minmax(0,1fr)] gap-3">
    <div class="flex flex-wrap items-center gap-x-3 gap-y-1">
      <h1>
        {{ titles[job.kind] ?? job.kind }} {{ job.kind === 'restore-test' ? 'on' : 'of' }}
        <template v-if="aboutMany(job)">{{ job.device }}</template><RouterLink v-else :to="'/devices/' + job.device">{{
          job.device
        }}</RouterLink>
      </h1>
      <StateMark :state="state" />
      <span class="text-faded">asked for {{ when(job.created_at) }} by {{ job.actor }}</span>
      <span class="grow"></span>
      <AppButton v-if="operator && !over && !waits" :busy="job.cancel_asked" @click="cancel">{{
        job.cancel_asked ? 'Stopping…' : 'Cancel'
      }}</AppButton>
      <AppButton v-if="operator && repeats" @click="repeat">Do it again</AppButton>
      <RouterLink v-if="job.part_of" :to="'/jobs/' + job.part_of">What it is part of</RouterLink>
      <AppButton v-if="operator && over && job.push?.before && job.push.begun && job.outcome !== 'undone'" :to="`/push?undo=${job.id}`"
        >Undo: put {{ job.push.before }} back</AppButton
      >
    </div>
    <ProblemNote :error="failed" />
    <WaitBar v-if="waits" :key="job.id + job.awaits" :job="job" :may="operator" />
    <PushProgress v-if="job.kind === 'push'" :job="job" :log="log" />
    <JobEnd v-if="over || job.summary" :job="job" />
    <p v-else class="text-faded" role="status">
      Under way{{ job.usual_ms ? `; usually it takes ${span(job.usual_ms)}` : '' }}. This page follows it; leave and come back as you like.
    </p>
    <ChecksPanel v-if="job.kind === 'check' && job.result" :key="job.id" :job="job" :may="operator" />
    <ResultFacts v-else-if="job.result" :result="job.result" />
    <PlanPanel v-if="job.plan" :plan="job.plan" />
    <TestPanel v-if="job.restore_test" :test="job.restore_test" :over="over" />
    <section v-if="job.learned?.draft">
      <h2 class="mb-1">The rules as drafted</h2>
      <pre class="card mono overflow-x-auto p-3" tabindex="0">{{ job.learned.draft }}</pre>
    </section>
    <RunPanel v-if="job.scheduled" :job="job" />
    <RestorePanel v-if="job.restore_preview || job.restore" :key="job.id" :job="job" :may="operator" />
    <section v-if="job.push?.remaining?.length">
      <h2 class="mb-1">Lines that differ</h2>
      <DifferenceList :differences="job.push.remaining" />
    </section>
    <section v-if="job.push?.checks.length">
      <h2 class="mb-1">Checks</h2>
      <CheckTable :checks="job.push.checks" />
    </section>
    <section v-if="proof">
      <h2 class="mb-1">What changed on the device</h2>
      <CompareView :from="proof.from" :to="proof.to" low />
    </section>
    <section>
      <h2 class="mb-1">Log</h2>
      <JobLog :log="log" />
    </section>
  </div>
</template>
