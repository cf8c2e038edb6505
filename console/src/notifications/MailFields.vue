<script setup lang="ts">
import FormField from '../design/FormField.vue'
import type { MailForm } from './mail'

// The fields of the mail server.
defineProps<{ kept?: boolean; problem: (field: string) => string | undefined }>()
const form = defineModel<MailForm>({ required: true })
const ways = [
  { value: 'starttls', label: 'STARTTLS (port 587)' },
  { value: 'tls', label: 'TLS (port 465)' },
  { value: 'none', label: 'none: only on this machine' },
]
</script>

<template>
  <div class="grid gap-3 sm:grid-cols-2">
    <FormField
      v-model.trim="form.server"
      label="Mail server"
      name="mail-server"
      required
      placeholder="mail.ferries.example:587"
      :problem="problem('server')"
    />
    <FormField v-model="form.security" label="Kept private by" name="mail-security" type="select" :options="ways" />
    <FormField v-model.trim="form.user" label="User" name="mail-user" hint="empty: no sign-in" />
    <FormField
      v-model="form.password"
      label="Password"
      name="mail-password"
      type="password"
      autocomplete="new-password"
      :hint="kept ? 'empty: the one that is kept' : undefined"
      :problem="problem('password')"
    />
    <FormField
      v-model.trim="form.from"
      label="Mail comes from"
      name="mail-from"
      required
      placeholder="magpie@ferries.example"
      :problem="problem('from')"
    />
    <FormField v-model.trim="form.console" label="Console, for links" name="mail-console" :problem="problem('console')" />
  </div>
  <FormField
    v-model="form.ca"
    label="Certificates that vouch for the server"
    name="mail-ca"
    type="area"
    mono
    :rows="2"
    hint="PEM; empty: the system's"
    :problem="problem('ca')"
  />
</template>
