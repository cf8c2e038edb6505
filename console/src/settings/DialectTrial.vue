<script setup lang="ts">
import { reactive, ref } from 'vue'
import { post, type Probe, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import TriedNote from '../fleet/TriedNote.vue'

// Runs a dialect file against a live device: all that was said, up to where it went
// wrong. Nothing is kept.
const props = defineProps<{ source: string }>()
defineEmits<{ close: [] }>()
const form = reactive({ address: '', port: 22, transport: 'ssh', user: '', password: '', privileged_secret: '' })
const probe = ref<Probe>()
const end = ref<Schemas['DialectTried']>()
const { busy, trouble, attempt } = useAttempt()
const transports = ['ssh', 'telnet', 'netconf', 'restconf', 'https', 'http'].map((t) => ({ value: t, label: t }))
const send = () =>
  attempt(async () => {
    const { address, port, transport } = form
    if (!probe.value && transport !== 'telnet' && transport !== 'http') {
      probe.value = await post<Probe>('/probe', { address, port, transport })
      return
    }
    end.value = await post<Schemas['DialectTried']>('/dialect-try', {
      source: props.source,
      device: { ...form, host_key: probe.value?.host_key },
    })
  })
</script>

<template>
  <ModalDialog title="Try it on a device" wide @close="$emit('close')">
    <AppForm across :busy="busy" :trouble="trouble" :deed="probe ? 'Accept the key and try it' : 'Look what answers there'" @send="send">
      <FormField v-model.trim="form.address" label="Address" name="trial-address" required />
      <FormField v-model="form.port" label="Port" name="trial-port" type="number" :min="1" :max="65535" required />
      <FormField v-model="form.transport" label="Over" name="trial-transport" type="select" :options="transports" />
      <FormField v-model.trim="form.user" label="User" name="trial-user" required />
      <FormField v-model="form.password" label="Password" name="trial-password" type="password" autocomplete="new-password" required />
      <FormField
        v-model="form.privileged_secret"
        label="Secret of the privileged mode"
        name="trial-privileged"
        type="password"
        autocomplete="new-password"
      />
      <TriedNote v-if="probe && !end" class="form-whole" :probe="probe" :transport="form.transport" />
    </AppForm>
    <div v-if="end" class="grid gap-2" role="status">
      <p v-if="end.trouble" class="font-medium text-alarm">{{ end.trouble }}</p>
      <TriedNote v-else :probe="probe ?? { host_key: '', fingerprint: '' }" :tried="end.tried" :transport="form.transport" />
      <p v-for="p in end.problems" :key="p.line + p.text" class="text-alarm">line {{ p.line }}, {{ p.path }}: {{ p.text }}</p>
      <details v-for="(x, i) in end.exchanges" :key="i" class="card p-2">
        <summary class="mono cursor-pointer" :class="x.trouble ? 'text-alarm' : ''">
          {{ x.sent || '(nothing sent)' }} <span class="text-faded">{{ x.ms }} ms</span>
        </summary>
        <p v-if="x.trouble" class="text-alarm">{{ x.trouble }}</p>
        <pre class="mono max-h-60 overflow-auto" tabindex="0">{{ x.answer }}</pre>
      </details>
    </div>
  </ModalDialog>
</template>
