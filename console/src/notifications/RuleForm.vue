<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, reactive } from 'vue'
import { ApiError, call, listAll, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { zone } from '../composables/time'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// Makes or changes a notification rule.
type Rule = Schemas['NotificationRule']
const props = defineProps<{ rule: Partial<Rule>; recipients: Schemas['Recipient'][] }>()
const emit = defineEmits<{ close: []; saved: [] }>()
const { data: events } = useQuery({ key: ['tell events'], query: () => listAll<Schemas['NotificationEvent']>('/notification-events') })
const r = props.rule
const form = reactive({
  name: r.name ?? '',
  events: Object.fromEntries((r.events ?? ['failed', 'drifted']).map((e) => [e, true])) as Record<string, boolean>,
  to: Object.fromEntries((r.recipients ?? []).map((n) => [n, true])) as Record<string, boolean>,
  selector: r.selector?.join(' ') ?? 'all',
  days: r.days || 90,
  digest: r.digest ?? '',
  quiet: r.quiet?.join('\n') ?? '',
  zone: r.zone ?? zone,
  note: r.note ?? '',
})
const chosen = (of: Record<string, boolean>) => Object.keys(of).filter((k) => of[k])
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const body = {
      name: form.name,
      events: chosen(form.events),
      selector: form.selector.trim().split(/\s+/),
      recipients: chosen(form.to),
      days: form.events.unproven ? form.days : undefined,
      digest: form.digest.trim() || undefined,
      quiet: form.quiet.split('\n').filter((l) => l.trim()),
      zone: form.zone,
      paused: r.paused || undefined,
      note: form.note || undefined,
    }
    await call(r.name ? 'PUT' : 'POST', '/notification-rules' + (r.name ? '/' + encodeURIComponent(r.name) : ''), body)
    emit('saved')
  })
const wrong = computed(() => (trouble.value instanceof ApiError ? trouble.value.problem : undefined))
const at = (field: string) => (wrong.value?.field === field ? wrong.value.detail : undefined)
const unable = computed(() => !form.name || !chosen(form.events).length || !chosen(form.to).length)
</script>

<template>
  <ModalDialog :title="r.name ? `Change ${r.name}` : 'Have people told'" wide @close="emit('close')">
    <AppForm
      :busy="busy"
      :trouble="trouble"
      :unable="unable"
      :deed="r.name ? 'Change it' : 'Keep it'"
      leaves
      @send="send"
      @leave="emit('close')"
    >
      <FormField v-model.trim="form.name" label="Name" name="rule-name" required placeholder="night-watch" :problem="at('name')" />
      <div class="grid gap-4 sm:grid-cols-2">
        <fieldset class="grid content-start gap-1">
          <legend class="mb-1">Tell of</legend>
          <FormField
            v-for="e in events"
            :key="e.name"
            v-model="form.events[e.name]"
            :label="e.name"
            :name="'event-' + e.name"
            type="check"
            :hint="e.means"
          />
          <FormField v-if="form.events.unproven" v-model="form.days" label="Days" name="rule-days" type="number" :min="1" :max="3650" />
        </fieldset>
        <div class="grid content-start gap-3">
          <fieldset class="grid gap-1">
            <legend class="mb-1">To</legend>
            <FormField
              v-for="x in recipients"
              :key="x.name"
              v-model="form.to[x.name]"
              :label="`${x.name} (${x.kind})`"
              :name="'to-' + x.name"
              type="check"
            />
          </fieldset>
          <FormField v-model="form.selector" label="Of which devices" name="rule-selector" required :problem="at('selector')" />
          <FormField
            v-model="form.digest"
            label="As a digest"
            name="rule-digest"
            placeholder="daily 07:00"
            hint="empty: at once"
            :problem="at('digest')"
          />
          <FormField
            v-model="form.quiet"
            label="But not"
            name="rule-quiet"
            type="area"
            :rows="2"
            placeholder="daily 22:00 for 9h"
            hint="a line for each; what happens then is told afterwards"
            :problem="at('quiet')"
          />
          <FormField v-model.trim="form.zone" label="In which time zone" name="rule-zone" :problem="at('zone')" />
          <FormField v-model="form.note" label="Why" name="rule-note" />
        </div>
      </div>
    </AppForm>
  </ModalDialog>
</template>
