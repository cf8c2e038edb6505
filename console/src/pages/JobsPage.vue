<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, query, type Job, type Page } from '../api/call'
import { zone } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useKinds } from '../jobs/kinds'
import JobTable from '../jobs/JobTable.vue'
import { serverNow } from '../api/clock'

// What was done and is under way, newest first.
const route = useRoute()
const router = useRouter()
const word = (name: string) =>
  computed({
    get: () => String(route.query[name] ?? ''),
    set: (v) => (void router.replace({ query: { ...route.query, [name]: v || undefined } }), (before.value = '')),
  })
const kind = word('kind')
const state = word('state')
const outcome = word('outcome')
const actor = word('actor')
const of = word('of')
const span = word('since')
const typed = (e: Event) => (e.target as HTMLInputElement).value.trim()
const before = ref('')
const since = computed(() => (span.value ? new Date(serverNow() - Number(span.value) * 24 * 3600_000).toISOString() : undefined))
const { data, error } = useQuery({
  key: () => ['jobs', kind.value, state.value, outcome.value, actor.value, of.value, span.value, before.value],
  query: () =>
    get<Page<Job>>(
      '/jobs' +
        query({
          kind: kind.value,
          state: state.value,
          outcome: outcome.value,
          actor: actor.value.trim(),
          selector: of.value.trim(),
          since: since.value,
          cursor: before.value,
          limit: 100,
        }),
    ),
})
const { data: known } = useKinds()
const kinds = computed(() => [{ value: '', label: 'of every kind' }, ...(known.value ?? []).map((k) => ({ value: k.name, label: k.name }))])
const states = ['', 'running', 'waiting', 'queued', 'ended'].map((s) => ({ value: s, label: s || 'in every state' }))
const outcomes = ['', 'done', 'failed', 'refused', 'cancelled', 'verified', 'unsaved', 'differs', 'undone', 'unknown'].map((s) => ({
  value: s,
  label: s || 'however it ended',
}))
const spans = [
  { value: '', label: 'at any time' },
  { value: '1', label: 'in the last day' },
  { value: '7', label: 'in the last week' },
  { value: '31', label: 'in the last month' },
]
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <h1 class="mr-2">Jobs</h1>
    <span class="w-44"><FormField v-model="kind" bare label="Kind" name="kind" type="select" :options="kinds" /></span>
    <span class="w-44"><FormField v-model="state" bare label="State" name="state" type="select" :options="states" /></span>
    <span class="w-44"><FormField v-model="outcome" bare label="Outcome" name="outcome" type="select" :options="outcomes" /></span>
    <span class="w-40"><FormField v-model="span" bare label="When" name="since" type="select" :options="spans" /></span>
    <span class="w-40"
      ><FormField :model-value="actor" bare label="By whom" name="actor" placeholder="by whom" @change="actor = typed($event)"
    /></span>
    <span class="w-48"
      ><FormField :model-value="of" bare label="Of which devices" name="of" placeholder="site=skerrinsay" @change="of = typed($event)"
    /></span>
    <span class="grow"></span>
    <AppButton v-if="before" @click="before = ''">Newest</AppButton>
    <AppButton v-if="data?.next" @click="before = data.next">Older</AppButton>
  </div>
  <ProblemNote :error="error" />
  <JobTable v-if="data" :jobs="data.items" style="--above: 10rem" />
  <p class="mt-2 text-faded">Times are in {{ zone }}.</p>
</template>
