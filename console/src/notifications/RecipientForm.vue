<script setup lang="ts">
import { computed, ref } from 'vue'
import { ApiError, call, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// Makes or changes a recipient.
type Recipient = Schemas['Recipient']
const props = defineProps<{ recipient: Partial<Recipient> }>()
const emit = defineEmits<{ close: []; saved: [recipient: Recipient] }>()
const r = props.recipient
const form = ref({
  name: r.name ?? '',
  kind: (r.kind ?? 'mail') as string,
  to: r.to?.join('\n') ?? '',
  url: r.url ?? '',
  secret: '',
  address: r.address ?? '',
  transport: (r.transport ?? 'tls') as string,
  ca: r.ca ?? '',
  audit: r.audit ?? false,
})
const by = computed(() => form.value.kind)
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const ca = form.value.ca.trim() ? form.value.ca : undefined
    const ways: Record<string, object> = {
      mail: { to: form.value.to.split(/[\s,]+/).filter(Boolean) },
      webhook: { url: form.value.url.trim(), secret: form.value.secret || undefined, ca },
      syslog: { address: form.value.address.trim(), transport: form.value.transport, audit: form.value.audit || undefined, ca },
    }
    const to = '/recipients' + (r.name ? '/' + encodeURIComponent(r.name) : '')
    emit(
      'saved',
      await call<Recipient>(r.name ? 'PUT' : 'POST', to, { name: form.value.name, kind: form.value.kind, ...ways[form.value.kind] }),
    )
  })
const wrong = computed(() => (trouble.value instanceof ApiError ? trouble.value.problem : undefined))
const at = (field: string) => (wrong.value?.field === field ? wrong.value.detail : undefined)
const kinds = [
  { value: 'mail', label: 'mail' },
  { value: 'webhook', label: 'webhook, signed' },
  { value: 'syslog', label: 'syslog' },
]
const ways = ['tls', 'tcp', 'udp'].map((w) => ({ value: w, label: w }))
</script>

<template>
  <ModalDialog :title="r.name ? `Change ${r.name}` : 'Somebody who can be told'" @close="emit('close')">
    <AppForm
      :busy="busy"
      :trouble="trouble"
      :unable="!form.name"
      :deed="r.name ? 'Change it' : 'Keep it'"
      leaves
      @send="send"
      @leave="emit('close')"
    >
      <FormField v-model.trim="form.name" label="Name" name="recipient-name" required placeholder="noc" :problem="at('name')" />
      <FormField v-if="!r.name" v-model="form.kind" label="Told by" name="recipient-kind" type="select" :options="kinds" />
      <FormField
        v-if="by === 'mail'"
        v-model="form.to"
        label="Addresses"
        name="recipient-to"
        type="area"
        :rows="2"
        hint="a line for each"
        :problem="at('to')"
      />
      <template v-else-if="by === 'webhook'">
        <FormField
          v-model="form.url"
          label="Address"
          name="recipient-url"
          placeholder="https://chat.ferries.example/hook"
          :problem="at('url')"
        />
        <FormField
          v-model="form.secret"
          label="Secret"
          name="recipient-secret"
          type="password"
          hint="empty: the one that is kept for this address, or a new one"
          :problem="at('secret')"
        />
      </template>
      <template v-else>
        <FormField
          v-model="form.address"
          label="Host and port"
          name="recipient-address"
          placeholder="log.ferries.example:6514"
          :problem="at('address')"
        />
        <FormField v-model="form.transport" label="Way" name="recipient-transport" type="select" :options="ways" />
        <FormField v-model="form.audit" label="Send the audit log there, too" name="recipient-audit" type="check" />
      </template>
      <FormField
        v-if="by !== 'mail'"
        v-model="form.ca"
        label="Certificates that vouch for it"
        name="recipient-ca"
        type="area"
        mono
        hint="PEM; empty: the system's"
        :problem="at('ca')"
      />
    </AppForm>
  </ModalDialog>
</template>
