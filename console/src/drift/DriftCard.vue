<script setup lang="ts">
import { computed } from 'vue'
import { call, query, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { when } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import ProblemNote from '../design/ProblemNote.vue'
import StateMark from '../design/StateMark.vue'
import DifferenceList from '../push/DifferenceList.vue'

// How one part of a device is off what it should be: since when, by whom, in which lines.
const props = defineProps<{ drift: Schemas['Drift']; can: boolean }>()
const emit = defineEmits<{ again: [] }>()
const picked = defineModel<string[]>({ required: true })
const { busy, trouble, attempt } = useAttempt()
const again = () =>
  attempt(async () => (await call('DELETE', '/acknowledgements' + query({ selector: props.drift.device })), emit('again')))
const lines = (n: number) => (n === 1 ? '1 line' : `${n} lines`)
const base = computed(() => props.drift.differences.some((d) => !d.rule))
const rules = computed(() => props.drift.differences.some((d) => d.rule))
const off = computed(() => [base.value ? props.drift.baseline : '', rules.value ? 'what rules want' : ''].filter(Boolean).join(' and '))
const by = (o: Schemas['Origin']) => (o.author ? ` by ${o.author}` : '')
</script>

<template>
  <section class="card mb-2 overflow-hidden" :aria-label="drift.device">
    <header class="flex flex-wrap items-center gap-x-3 gap-y-1 px-3 py-1.5">
      <label v-if="can" class="check-area"
        ><input v-model="picked" type="checkbox" class="check" :value="drift.device" :aria-label="'pick ' + drift.device"
      /></label>
      <h3 class="text-base">
        <RouterLink :to="'/devices/' + drift.device">{{ drift.device }}</RouterLink>
      </h3>
      <StateMark :state="drift.acknowledged ? 'in sync' : drift.state" :word="drift.acknowledged ? 'acknowledged' : ''" />
      <span class="text-sm text-faded">
        <template v-if="drift.trouble">{{ drift.trouble }}</template>
        <template v-else>
          {{ drift.running }}: {{ lines(drift.differences.length) }} off
          {{ off }}
        </template>
        <template v-if="drift.since"
          >, since {{ when(drift.since.taken_at) }}{{ drift.since.first ? ' or earlier' : '' }}{{ by(drift.since) }}</template
        >
      </span>
      <span class="grow"></span>
      <RouterLink v-if="base && drift.baseline && drift.running" class="link" :to="`/compare?from=${drift.baseline}&to=${drift.running}`"
        >compare</RouterLink
      >
      <RouterLink v-if="can && base && drift.baseline" class="link" :to="`/push?ref=${drift.baseline}`">put back</RouterLink>
    </header>
    <p v-if="drift.acknowledged" class="flex flex-wrap items-center gap-2 px-3 pb-1.5 text-sm">
      Until {{ when(drift.acknowledged.until) }}: {{ drift.acknowledged.reason }} ({{ drift.acknowledged.by }})
      <AppButton v-if="can" small :busy="busy" :aria-label="'Have ' + drift.device + ' count again'" @click="again">Count again</AppButton>
    </p>
    <ProblemNote :error="trouble" class="mx-3 mb-2" />
    <DifferenceList v-if="drift.differences.length" class="mx-3 mb-2" :differences="drift.differences" />
    <p v-if="drift.ignored || drift.unsure" class="px-3 pb-2 text-sm text-faded">
      <template v-if="drift.ignored">{{ lines(drift.ignored) }} ignored by rules. </template>
      <template v-if="drift.unsure">{{ lines(drift.unsure) }} with secrets could not be wholly compared.</template>
    </p>
  </section>
</template>
