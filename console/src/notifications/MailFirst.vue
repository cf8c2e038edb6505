<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref, watchEffect } from 'vue'
import { ApiError, call, get, listAll, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { zone } from '../composables/time'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import { mailBody, mailForm } from './mail'
import MailFields from './MailFields.vue'
import TestSteps from './TestSteps.vue'

// From nothing to mail when something fails, in one step: the mail server, who is told, a
// test, and, once that came through, the rule.
const emit = defineEmits<{ close: []; saved: [] }>()
const form = ref(mailForm())
const { data: kept } = useQuery({ key: ['deed', 'mail server'], query: () => get<Schemas['MailServer']>('/mail-server') })
// Once only: what is typed is not written over when it changes.
const stop = watchEffect(() => kept.value && ((form.value = mailForm(kept.value)), queueMicrotask(() => stop())))
const to = ref('')
const tested = ref<Schemas['Tested']>()
const { busy, trouble, attempt } = useAttempt()
const name = 'failures'
const send = () =>
  attempt(async () => {
    tested.value = undefined
    await call('PUT', '/mail-server', mailBody(form.value))
    const there = (await listAll<Schemas['Recipient']>('/recipients')).some((r) => r.name === name)
    const body = { name, kind: 'mail', to: to.value.split(/[\s,]+/).filter(Boolean) }
    await call(there ? 'PUT' : 'POST', '/recipients' + (there ? '/' + name : ''), body)
    tested.value = await post<Schemas['Tested']>(`/recipients/${name}/test`)
    if (!tested.value.ok) return
    const rule = { name, events: ['failed', 'drifted', 'recovered', 'capacity', 'copies'], selector: ['all'], recipients: [name], zone }
    await post('/notification-rules', rule)
    emit('saved')
  })
const wrong = computed(() => (trouble.value instanceof ApiError ? trouble.value.problem : undefined))
const at = (field: string) => (wrong.value?.field === field ? wrong.value.detail : undefined)
</script>

<template>
  <ModalDialog title="Send mail when something fails" wide @close="emit('close')">
    <AppForm
      :busy="busy"
      :trouble="trouble"
      :unable="!form.server || !form.from || !to.trim()"
      deed="Send a test, and keep it"
      leaves
      @send="send"
      @leave="emit('close')"
    >
      <MailFields v-model="form" :kept="kept?.password" :problem="at" />
      <FormField v-model="to" label="Who is told" name="mail-to" required placeholder="noc@ferries.example" :problem="at('to')" />
      <p class="text-faded">
        They are told when a device cannot be pulled or drifts, when work fails or a disk fills up, and when all is well again. It is kept
        once the test came through.
      </p>
      <TestSteps v-if="tested" :tested="tested" />
    </AppForm>
  </ModalDialog>
</template>
