<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, query, type Diff } from '../api/call'
import DiffView from '../components/DiffView.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { useSession } from '../session'

const route = useRoute()
const router = useRouter()
const operator = useSession().may('operator')
const from = computed(() => String(route.query.from ?? ''))
const to = computed(() => String(route.query.to ?? ''))
const typed = ref({ from: from.value, to: to.value })
watch([from, to], () => (typed.value = { from: from.value, to: to.value }))
const all = ref(false)
const unfolded = ref(false)

const { data, error, isLoading } = useQuery({
  key: () => ['diff', from.value, to.value, all.value, unfolded.value],
  query: () =>
    get<Diff>('/diff' + query({ from: from.value, to: to.value, all: all.value || undefined, context: unfolded.value ? 1000000 : 3 })),
  enabled: () => !!from.value && !!to.value,
  gcTime: 0,
})
const words = computed(() => {
  const d = data.value
  if (!d) return ''
  const by = `${d.set_aside} ${d.set_aside === 1 ? 'line that changes by itself' : 'lines that change by themselves'}`
  if (d.relation === 'identical') return 'The two are identical.'
  if (d.relation === 'unchanged') return `The same, but for ${by}.`
  if (d.relation === 'equivalent') return 'Written differently, and meaning the same.'
  return `${d.removed} removed, ${d.added} added${d.set_aside ? `; ${by} not shown` : ''}.`
})
</script>

<template>
  <form
    class="mb-3 flex flex-wrap items-end gap-2"
    @submit.prevent="router.replace({ query: { from: typed.from.trim(), to: typed.to.trim() } })"
  >
    <h1 class="mr-2 self-center">Compare</h1>
    <label class="grid grow gap-1 sm:grow-0"
      ><span class="text-faded">from</span
      ><input v-model="typed.from" class="field font-mono sm:w-72" placeholder="skerrinsay-r1@baseline" required
    /></label>
    <label class="grid grow gap-1 sm:grow-0"
      ><span class="text-faded">to</span
      ><input v-model="typed.to" class="field font-mono sm:w-72" placeholder="skerrinsay-r1@live" required
    /></label>
    <button class="button-main">Compare</button>
    <button type="button" class="button" @click="router.replace({ query: { from: to, to: from } })">Swap</button>
    <label class="flex items-center gap-2 py-1.5"
      ><input v-model="all" type="checkbox" class="accent-violet" />also lines that change by themselves</label
    >
  </form>
  <ProblemNote :error="error" />
  <p v-if="!from || !to" class="text-faded">
    Name two versions: a device with a number, a name, a time, or one of latest, previous, baseline, live; like
    <code>skerrinsay-r1@2026-11-20T10:00Z</code>.
  </p>
  <p v-else-if="isLoading" class="text-faded" role="status">Comparing…</p>
  <template v-if="data">
    <div class="mb-2 flex flex-wrap items-center gap-3">
      <p role="status">
        <b class="font-mono">{{ data.from }}</b> to <b class="font-mono">{{ data.to }}</b>: {{ words }}
        <span v-if="data.masked" class="text-faded">Secrets are masked.</span>
      </p>
      <span class="grow"></span>
      <RouterLink
        v-if="operator && data.relation === 'different' && !data.from.endsWith('@live')"
        class="button"
        :to="`/push?ref=${data.from}`"
        >Put {{ data.from }} back</RouterLink
      >
    </div>
    <p v-for="s in [data.from_sure, data.to_sure].filter(Boolean)" :key="s" class="mb-2 text-faded">{{ s }}</p>
    <DiffView v-if="data.hunks.length" :diff="data" :unfolded="unfolded" @unfold="unfolded = !unfolded" />
  </template>
</template>
