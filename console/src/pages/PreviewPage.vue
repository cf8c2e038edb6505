<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { get, post, type Job, type Preview } from '../api/call'
import { useAttempt } from '../composables/attempt'
import ProblemNote from '../design/ProblemNote.vue'
import GoBar from '../push/GoBar.vue'
import OnlyBlocks from '../push/OnlyBlocks.vue'
import PreviewFacts from '../push/PreviewFacts.vue'
import PreviewWords from '../push/PreviewWords.vue'
import { useSafety } from '../push/safety'
import SafetyForm from '../push/SafetyForm.vue'
import StepBar from '../push/StepBar.vue'
import StepList from '../push/StepList.vue'
import { useSession } from '../session'
import { letGo } from '../version/letGo'
import { once } from '../composables/once'

// What a push would do, how it is made safe, and the button that does it.
const props = defineProps<{ id: string }>()
const router = useRouter()
const operator = useSession().may('operator')
const { data: p, error } = useQuery({
  key: () => ['preview', props.id],
  query: () => get<Preview>('/previews/' + encodeURIComponent(props.id)),
})
const safety = useSafety(() => p.value!)
const something = computed(() => p.value && safety.something.value)
const { busy, trouble, attempt } = useAttempt()
const key = once() // one page makes one push, however often it is clicked
const push = () =>
  attempt(async () => {
    const j = await post<Job>('/pushes', safety.body(), { 'Idempotency-Key': key })
    void router.push('/jobs/' + j.id)
  })
const written = computed(() => letGo(p.value?.let_go).join(', '))
const exactly = computed(() => ({
  path: '/push',
  query: { ref: p.value?.target, to: p.value?.device, method: p.value?.method, exactly: '1' },
}))
const chosen = computed(() => ({ path: '/push', query: { to: p.value?.device } }))
</script>

<template>
  <ProblemNote :error="error" />
  <template v-if="p">
    <StepBar :at="1" :to="[chosen]" />
    <h1 class="mb-3">
      Put {{ p.target }}<template v-if="p.target_name"> ({{ p.target_name }})</template>{{ ' ' }}
      <template v-if="p.swap">on the new unit of {{ p.device }}</template
      ><template v-else>back on {{ p.device }}</template>
    </h1>
    <div class="grid gap-4 lg:grid-cols-[minmax(0,1fr)_23rem]">
      <section class="grid min-w-0 content-start gap-3">
        <template v-if="p.steps.length">
          <h2>
            <template v-if="safety.whole.value">Sent as a whole, in these steps</template
            ><template v-else>{{ p.lines }} {{ p.lines === 1 ? 'line' : 'lines' }} to send, in this order</template>
          </h2>
          <StepList :preview="p" />
        </template>
        <p v-else>
          {{ p.device }} runs {{ p.target }} already; nothing to send.<template v-if="p.unsaved">
            But it is not saved: startup does not hold what runs.</template
          >
          <template v-if="written">
            They are written differently and mean the same: {{ written }}.
            <RouterLink v-if="operator" :to="exactly">Send it all the same</RouterLink>
          </template>
        </p>
        <PreviewWords :preview="p" :may="operator" />
      </section>
      <aside class="grid content-start gap-3">
        <PreviewFacts :preview="p" :may="operator" />
        <SafetyForm v-if="operator && something" :preview="p" :safety="safety" />
        <OnlyBlocks v-if="operator && !safety.whole.value && p.steps.length && !p.swap && !p.undo_of" :preview="p" />
      </aside>
    </div>
    <GoBar
      v-if="operator && something"
      :name="p.device"
      :deed="safety.deed.value"
      :lacks="safety.lacks.value"
      :busy="busy"
      :trouble="trouble"
      :back="'/devices/' + p.device"
      @go="push"
    />
    <RouterLink v-else class="mt-3 inline-block" :to="'/devices/' + p.device">Back to {{ p.device }}</RouterLink>
  </template>
</template>
