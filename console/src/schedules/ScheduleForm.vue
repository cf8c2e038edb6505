<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { refDebounced } from '@vueuse/core'
import { computed, reactive, ref } from 'vue'
import { ApiError, call, post, query, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { zone } from '../composables/time'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import DeedFields, { type DeedForm } from './DeedFields.vue'
import { dayHints, formOf, forms, lineOf, usual } from './rule'
import WhatHappens from './WhatHappens.vue'

// Makes or changes a schedule. What it will do is worked out by the service as one types.
type Schedule = Schemas['Schedule']
const props = defineProps<{ schedule?: Schedule; start?: Partial<Schedule> }>()
const emit = defineEmits<{ close: []; saved: [schedule: Schedule] }>()
const s = props.schedule ?? props.start
const form = reactive({
  name: s?.name ?? '',
  zone: s?.zone ?? zone,
  selector: s?.selector?.join(' ') ?? 'all',
  spread: s?.spread ?? '',
  blackouts: s?.blackouts?.join('\n') ?? '',
  note: s?.note ?? '',
})
const rule = reactive(s?.rule ? formOf(s.rule) : usual())
const deeds = ref<DeedForm[]>(s?.deeds?.map((d) => ({ kind: d.kind, with: { ...d.with } })) ?? [{ kind: 'pull', with: {} }])
const body = computed(() => ({
  name: form.name.trim() || 'unnamed',
  rule: lineOf(rule),
  zone: form.zone.trim(),
  selector: form.selector.trim().split(/\s+/),
  deeds: deeds.value.map((d) => ({ kind: d.kind, with: Object.fromEntries(Object.entries(d.with).filter(([, v]) => v)) })),
  spread: form.spread.trim() || undefined,
  blackouts: form.blackouts.split('\n').filter((l) => l.trim()),
  paused: props.schedule?.paused || undefined,
  note: form.note || undefined,
}))
const asked = refDebounced(
  computed(() => JSON.stringify(body.value)),
  400,
)
const { data: seen, error } = useQuery({
  key: () => ['schedule check', asked.value],
  query: () => post<Schedule>('/schedules/check' + query({ was: props.schedule?.name }), JSON.parse(asked.value)),
})
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const at = '/schedules' + (props.schedule ? '/' + encodeURIComponent(props.schedule.name) : '')
    emit('saved', await call<Schedule>(props.schedule ? 'PUT' : 'POST', at, body.value))
  })
const wrong = computed(() => (error.value instanceof ApiError ? error.value.problem : undefined))
const at = (field: string) => (wrong.value?.field === field ? wrong.value.detail : undefined)
const zones = Intl.supportedValuesOf('timeZone')
const ruleTimes = computed(() => ['daily', 'weekly', 'monthly', 'yearly'].includes(rule.form))
</script>

<template>
  <ModalDialog :title="schedule ? `Change ${schedule.name}` : 'Have something done by itself'" wide @close="emit('close')">
    <div class="grid gap-5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
      <AppForm
        :busy="busy"
        :trouble="trouble"
        :unable="!form.name.trim()"
        :deed="schedule ? 'Change it' : 'Keep it'"
        leaves
        @send="send"
        @leave="emit('close')"
      >
        <FormField v-model.trim="form.name" label="Name" name="schedule-name" required placeholder="nightly" />
        <DeedFields v-model="deeds" :problem="at('deeds')" />
        <FormField v-model="form.selector" label="Of which devices" name="schedule-selector" required :problem="at('selector')" />
        <div class="grid gap-3 sm:grid-cols-2">
          <FormField v-model="rule.form" label="When" name="schedule-form" type="select" :options="[...forms]" :problem="at('rule')" />
          <FormField
            v-if="dayHints[rule.form]"
            v-model="rule.days"
            :label="dayHints[rule.form].label"
            name="schedule-days"
            :placeholder="dayHints[rule.form].like"
          />
          <FormField v-if="ruleTimes" v-model="rule.times" label="At" name="schedule-times" placeholder="02:00, or 02:00,14:00" />
          <FormField v-if="rule.form === 'every'" v-model="rule.span" label="Every" name="schedule-span" placeholder="30m, 6h" />
          <FormField v-if="rule.form === 'once'" v-model="rule.at" label="At" name="schedule-at" type="datetime-local" />
          <FormField v-if="rule.form === 'cron'" v-model="rule.cron" label="Cron line" name="schedule-cron" mono />
          <FormField v-model.trim="form.zone" label="In which time zone" name="schedule-zone" :problem="at('zone')" list="zones" />
        </div>
        <datalist id="zones"><option v-for="z in zones" :key="z" :value="z"></option></datalist>
        <FormField
          v-model="form.spread"
          label="Spread over"
          name="schedule-spread"
          placeholder="30m"
          hint="empty: all at once"
          :problem="at('spread')"
        />
        <FormField
          v-model="form.blackouts"
          label="But not"
          name="schedule-blackouts"
          type="area"
          :rows="2"
          placeholder="weekly fri 16:00 for 62h"
          hint="a line for each"
          :problem="at('blackouts')"
        />
        <FormField v-model="form.note" label="Why" name="schedule-note" />
      </AppForm>
      <WhatHappens v-if="seen && !wrong" :schedule="seen" />
      <p v-else-if="wrong && !['deeds', 'selector', 'rule', 'zone', 'spread', 'blackouts'].includes(wrong.field ?? '')" class="text-alarm">
        {{ wrong.detail }}
      </p>
      <p v-else class="text-faded">Once it makes sense, what will happen is said here.</p>
    </div>
  </ModalDialog>
</template>
