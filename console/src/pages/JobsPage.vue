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
const before = ref('')
const { data, error } = useQuery({
  key: () => ['jobs', kind.value, state.value, before.value],
  query: () => get<Page<Job>>('/jobs' + query({ kind: kind.value, state: state.value, cursor: before.value, limit: 100 })),
})
const { data: known } = useKinds()
const kinds = computed(() => [{ value: '', label: 'of every kind' }, ...(known.value ?? []).map((k) => ({ value: k.name, label: k.name }))])
const states = ['', 'running', 'waiting', 'queued', 'ended'].map((s) => ({ value: s, label: s || 'in every state' }))
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <h1 class="mr-2">Jobs</h1>
    <span class="w-44"><FormField v-model="kind" bare label="Kind" name="kind" type="select" :options="kinds" /></span>
    <span class="w-44"><FormField v-model="state" bare label="State" name="state" type="select" :options="states" /></span>
    <span class="grow"></span>
    <AppButton v-if="before" @click="before = ''">Newest</AppButton>
    <AppButton v-if="data?.next" @click="before = data.next">Older</AppButton>
  </div>
  <ProblemNote :error="error" />
  <JobTable v-if="data" :jobs="data.items" style="--above: 10rem" />
  <p class="mt-2 text-faded">Times are in {{ zone }}.</p>
</template>
