<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { computed, reactive, ref } from 'vue'
import { get, post, type Device, type Schemas } from '../api/call'
import ProblemNote from './ProblemNote.vue'

defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: []; added: [name: string] }>()

const form = reactive({ name: '', address: '', port: 22, dialect: '', site: '', tags: '', user: '', password: '', raise: '' })
const dialects = ref<Schemas['Dialect'][]>([])
const probe = ref<Schemas['Probe']>()
const identity = ref<Schemas['Tried']>()
const busy = ref('')
const trouble = ref<Error>()

async function step(what: string, do_: () => Promise<void>) {
  busy.value = what
  trouble.value = undefined
  try {
    await do_()
  } catch (e) {
    trouble.value = e as Error
  } finally {
    busy.value = ''
  }
}

void step('', async () => {
  dialects.value = await get('/dialects')
  form.dialect = dialects.value[0]?.name ?? ''
  form.port = dialects.value[0]?.port ?? 22
})

const body = computed(() => ({
  ...form,
  tags: form.tags.split(/[\s,]+/).filter(Boolean),
  host_key: probe.value?.host_key,
}))
const look = () =>
  step('look', async () => {
    identity.value = undefined
    probe.value = await post('/probe', { address: form.address, port: form.port })
  })
const tryIt = () => step('try', async () => void (identity.value = await post('/try', body.value)))
const save = () =>
  step('save', async () => {
    const d = await post<Device>('/devices', body.value)
    await post('/pulls', { selector: [d.name] })
    emit('added', d.name)
  })
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="$emit('close')">
    <div class="fixed inset-0 bg-black/40" aria-hidden="true"></div>
    <div class="fixed inset-0 overflow-y-auto p-4">
      <DialogPanel class="card mx-auto grid w-full max-w-2xl gap-4 p-6 shadow-lg">
        <DialogTitle as="h1">Add a device</DialogTitle>
        <form class="grid gap-3 sm:grid-cols-2" @submit.prevent="probe ? (identity ? save() : tryIt()) : look()">
          <label class="grid gap-1">Name<input v-model.trim="form.name" class="field" required /></label>
          <label class="grid gap-1">Dialect
            <select v-model="form.dialect" class="field"><option v-for="d in dialects" :key="d.name" :value="d.name">{{ d.title }}</option></select>
          </label>
          <label class="grid gap-1">Address<input v-model.trim="form.address" class="field" required @input="probe = undefined" /></label>
          <label class="grid gap-1">Port<input v-model.number="form.port" class="field" type="number" min="1" max="65535" required @input="probe = undefined" /></label>
          <label class="grid gap-1">Site<input v-model.trim="form.site" class="field" /></label>
          <label class="grid gap-1">Tags<input v-model="form.tags" class="field" placeholder="core, edge" /></label>
          <label class="grid gap-1">User on the device<input v-model.trim="form.user" class="field" autocomplete="off" required @input="identity = undefined" /></label>
          <label class="grid gap-1">Password<input v-model="form.password" class="field" type="password" autocomplete="new-password" required @input="identity = undefined" /></label>
          <label class="grid gap-1 sm:col-span-2">Secret of the raised mode, if there is one<input v-model="form.raise" class="field" type="password" autocomplete="new-password" @input="identity = undefined" /></label>
          <div v-if="probe" class="rounded border border-rule bg-leaf p-3 sm:col-span-2">
            <p class="font-medium">It shows the host key</p>
            <p class="font-mono text-[13px] break-all">{{ probe.fingerprint }}</p>
            <p class="text-faded">Compare it with what the device itself says. Going on accepts it.</p>
            <p v-if="identity" class="mt-2"><b>{{ identity.host }}</b>, {{ identity.model }}, serial {{ identity.serial }}, release {{ identity.release }}</p>
          </div>
          <ProblemNote class="sm:col-span-2" :error="trouble" />
          <div class="flex gap-2 sm:col-span-2">
            <button class="button-main" :disabled="!!busy">{{ probe ? (identity ? 'Save and pull' : 'Accept the key and sign in once') : 'Look at its host key' }}</button>
            <button type="button" class="button" @click="$emit('close')">Cancel</button>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>
