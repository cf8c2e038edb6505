<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref, watchEffect } from 'vue'
import { ApiError, call, get, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { when } from '../composables/time'
import AppForm from '../design/AppForm.vue'
import FactList from '../design/FactList.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useSession } from '../session'
import { mailBody, mailForm } from './mail'
import MailFields from './MailFields.vue'

// Who takes mail.
const admin = useSession().may('admin')
const { data, error, refetch } = useQuery({ key: ['deed', 'mail server'], query: () => get<Schemas['MailServer']>('/mail-server') })
const form = ref(mailForm())
// Once only: what is typed is not written over when it changes.
const stop = watchEffect(() => data.value && ((form.value = mailForm(data.value)), queueMicrotask(() => stop())))
const { busy, trouble, attempt } = useAttempt()
const said = ref('')
const send = () => attempt(async () => (await call('PUT', '/mail-server', mailBody(form.value)), refetch(), (said.value = 'It is kept.')))
const wrong = computed(() => (trouble.value instanceof ApiError ? trouble.value.problem : undefined))
const at = (field: string) => (wrong.value?.field === field ? wrong.value.detail : undefined)
</script>

<template>
  <ProblemNote :error="error" class="mb-2" />
  <p v-if="data && !data.server" class="mb-3 text-faded">No mail server is set; mail waits until one is.</p>
  <AppForm
    v-if="data && admin"
    class="max-w-3xl"
    :busy="busy"
    :trouble="trouble"
    :unable="!form.server || !form.from"
    deed="Keep it"
    @send="send"
  >
    <MailFields v-model="form" :kept="data.password" :problem="at" />
    <p class="text-faded" role="status">
      {{ said }}
      <template v-if="data.changed_at">Saved {{ when(data.changed_at) }} by {{ data.changed_by }}. </template>
      To try it, send a test to a recipient.
    </p>
  </AppForm>
  <FactList
    v-else-if="data?.server"
    :facts="[
      { word: 'mail server', says: data.server },
      { word: 'kept private by', says: data.security },
      { word: 'user', says: data.user },
      { word: 'from', says: data.from },
      { word: 'console', says: data.console },
    ]"
  />
</template>
