<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { useLocalStorage, useMediaQuery } from '@vueuse/core'
import { computed, ref } from 'vue'
import { get, query, type Diff } from '../api/call'
import { useKeys } from '../composables/keys'
import AppButton from '../design/AppButton.vue'
import ChoiceBar from '../design/ChoiceBar.vue'
import CopyButton from '../design/CopyButton.vue'
import DiffPane from '../design/DiffPane.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useSession } from '../session'
import EntryList from './EntryList.vue'
import { letGo } from './letGo'

// Two texts laid against each other, with what was left out of it said.
const props = defineProps<{ from: string; to: string; low?: boolean }>()
const session = useSession()
const operator = session.may('operator')
const all = ref(false)
const whole = ref(false)
const open = ref(false) // with the secrets, which is written down
const { data, error, isLoading } = useQuery({
  key: () => ['diff', props.from, props.to, all.value, whole.value, open.value],
  query: () =>
    get<Diff>(
      '/diff' +
        query({
          from: props.from,
          to: props.to,
          all: all.value || undefined,
          context: whole.value ? 1000000 : 3,
          masked: open.value ? undefined : true,
        }),
    ),
  gcTime: 0,
  placeholderData: (before) => before, // until the other is there
})
const roomy = useMediaQuery('(min-width: 900px)')
const chosen = useLocalStorage('compare as', 'unified')
const layout = computed({
  get: () => (roomy.value || chosen.value !== 'beside' ? chosen.value : 'unified'),
  set: (v) => (chosen.value = v),
})
const set = computed(() => {
  const d = data.value
  const out: string[] = []
  const n = d?.set_aside ?? 0
  if (n) out.push(`${n} ${n === 1 ? 'line that changes by itself' : 'lines that change by themselves'}`)
  out.push(...letGo(d?.let_go))
  for (const h of d?.hidden ?? []) out.push(`${h.lines} ${h.lines === 1 ? 'line' : 'lines'} by rule ${h.rule}`)
  return out
})
const hidden = computed(() => set.value.join(', '))
useKeys([{ keys: 'a', does: 'show everything, or only what says something', run: () => (all.value = !all.value) }])
const words = computed(() => {
  const d = data.value
  if (!d) return ''
  if (d.relation === 'identical') return 'The two are identical.'
  if (d.relation === 'unchanged' && !hidden.value) return 'They say the same.'
  if (d.relation === 'unchanged') return `The same, but for ${hidden.value}.`
  if (d.relation === 'equivalent') return `Written differently, and meaning the same: ${hidden.value}.`
  return `${d.removed} removed, ${d.added} added.`
})
const layouts = computed(() => [
  { value: 'unified', label: 'Unified' },
  ...(roomy.value ? [{ value: 'beside', label: 'Side by side' }] : []),
  { value: 'entries', label: 'Entries' },
])
</script>

<template>
  <ProblemNote :error="error" />
  <p v-if="isLoading && !data" class="text-faded" role="status">Comparing…</p>
  <template v-if="data">
    <div class="mb-2 flex flex-wrap items-center gap-2">
      <p role="status" class="min-w-0 grow">
        <RouterLink :to="'/version?ref=' + data.from" class="mono font-semibold">{{ data.from }}</RouterLink> to
        <RouterLink :to="'/version?ref=' + data.to" class="mono font-semibold">{{ data.to }}</RouterLink>: {{ words }}
        <span v-if="data.relation === 'different' && hidden" class="text-gone-ink">Hidden: {{ hidden }}.</span>
        <span v-if="data.unsure" class="text-gone-ink"
          >The secrets of {{ data.unsure }} {{ data.unsure === 1 ? 'line' : 'lines' }} could not be compared.</span
        >
      </p>
      <FormField v-if="set.length || all" v-model="all" type="check" label="everything" name="all" />
      <FormField v-if="session.me?.secrets" v-model="open" type="check" label="secrets" name="secrets" />
      <span v-else class="text-faded">Secrets are masked.</span>
      <AppButton v-if="operator && data.relation === 'different' && !data.from.endsWith('@live')" :to="`/push?ref=${data.from}`"
        >Put {{ data.from }} back</AppButton
      >
    </div>
    <p v-for="s in [data.from_sure, data.to_sure].filter(Boolean)" :key="s" class="mb-2 text-faded">{{ s }}</p>
    <EntryList v-if="data.hunks.length && layout === 'entries'" :diff="data" :low="low">
      <template #deeds><ChoiceBar v-model="layout" label="Laid out" :choices="layouts" /></template>
    </EntryList>
    <DiffPane v-else-if="data.hunks.length" :diff="data" :beside="layout === 'beside'" :low="low">
      <template #deeds>
        <ChoiceBar v-model="layout" label="Laid out" :choices="layouts" />
        <button type="button" class="button is-small" @click="whole = !whole">{{ whole ? 'Fold' : 'Unfold' }}</button>
        <CopyButton small :text="() => data!.unified">Copy as patch</CopyButton>
      </template>
    </DiffPane>
  </template>
</template>
