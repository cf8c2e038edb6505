<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useDebounceFn } from '@vueuse/core'
import { listAll, query, type Schemas } from '../api/call'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import BaselineMany from '../fleet/BaselineMany.vue'
import RestoreMany from '../fleet/RestoreMany.vue'
import { isAll, useTouched } from '../live'
import { useSession } from '../session'
import AcknowledgeForm from './AcknowledgeForm.vue'
import DriftCard from './DriftCard.vue'

// The devices that are off what they are judged by, newest first; what is acknowledged stands last.
type Drift = Schemas['Drift']
const route = useRoute()
const router = useRouter()
const operator = useSession().may('operator')
const of = computed(() => String(route.query.selector ?? ''))
const typed = ref(of.value)
const { data, error, isLoading, refetch } = useQuery({
  key: () => ['deed', 'drift', of.value],
  query: () => listAll<Drift>('/drift' + query({ selector: of.value, off: true, since: true })),
})
// A device's state, or what it runs, may have become another.
const later = useDebounceFn(() => void refetch(), 400)
useTouched((all) => all.some((t) => isAll(t) || t.topic === 'device' || t.topic === 'part') && void later())
const off = computed(() => (data.value ?? []).filter((d) => d.state !== 'in sync' && d.state !== 'no baseline'))
const at = (d: Drift) => d.since?.taken_at ?? ''
const sorted = computed(() =>
  [...off.value].sort((a, b) => Number(!!a.acknowledged) - Number(!!b.acknowledged) || at(b).localeCompare(at(a))),
)
const loud = computed(() => sorted.value.filter((d) => !d.acknowledged))
const known = computed(() => sorted.value.filter((d) => d.acknowledged))
const picked = ref<string[]>([])
const chosen = computed(() => picked.value.filter((n) => off.value.some((d) => d.device === n)))
const selector = computed(() => (chosen.value.length ? chosen.value : loud.value.map((d) => d.device)))
const whom = computed(() => (chosen.value.length ? `${chosen.value.length} picked` : `all ${new Set(selector.value).size} drifted`))
const open = ref('')
const deeds = computed<Deed[]>(() => [
  { label: `Acknowledge ${whom.value}…`, run: () => (open.value = 'acknowledge') },
  { label: `Accept as baseline, of ${whom.value}…`, run: () => (open.value = 'baseline') },
  { label: `Put ${whom.value} back…`, run: () => (open.value = 'restore') },
])
function close() {
  open.value = ''
  void refetch()
}
const go = () => void router.push({ query: { tab: 'drifted', ...(typed.value.trim() ? { selector: typed.value.trim() } : {}) } })
const report = computed(() => '/api/v1/drift-report' + query({ selector: of.value || 'all', as: 'html' }))
</script>

<template>
  <AppForm class="card mb-3 p-3" @send="go">
    <div class="flex flex-wrap items-end gap-2">
      <FormField v-model="typed" class="grow" label="On" name="selector" placeholder="all, or site=skerrinsay kind=router" />
      <AppButton submit>Show</AppButton>
      <ActionMenu v-if="operator && selector.length" :label="chosen.length ? `With ${whom}` : 'With all'" :deeds="deeds" />
      <a class="button" :href="report" target="_blank" rel="noopener">Report</a>
    </div>
  </AppForm>
  <ProblemNote :error="error" class="mb-2" />
  <p v-if="isLoading && !data" class="text-faded" role="status">Judging…</p>
  <EmptyNote v-else-if="data && !off.length" title="Nothing has drifted">
    Every device that is judged runs its baseline, and what rules want of its lines, as far as it was pulled.
  </EmptyNote>
  <p v-else-if="data" class="mb-2 text-faded" role="status">
    {{ loud.length }} drifted{{ known.length ? `, ${known.length} acknowledged` : '' }}
  </p>
  <DriftCard v-for="d in loud" :key="d.device + d.part" v-model="picked" :drift="d" :can="operator" />
  <template v-if="known.length">
    <h2 class="mt-4 mb-2 text-base">Acknowledged</h2>
    <DriftCard v-for="d in known" :key="d.device + d.part" v-model="picked" :drift="d" :can="operator" @again="refetch()" />
  </template>
  <AcknowledgeForm v-if="open === 'acknowledge'" :selector="selector" :whom="whom" @close="close" />
  <BaselineMany v-if="open === 'baseline'" :selector="selector" :whom="whom" @close="close" />
  <RestoreMany v-if="open === 'restore'" which="baseline" :selector="selector" :whom="whom" @close="close" />
</template>
