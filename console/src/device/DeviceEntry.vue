<script setup lang="ts">
import { reactive } from 'vue'
import { call, type Device } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// Changes what is registered of a device.
const props = defineProps<{ device: Device }>()
const emit = defineEmits<{ close: []; changed: [device: Device] }>()
const d = props.device
const form = reactive({
  name: d.name,
  site: d.site,
  kind: d.kind,
  tags: d.tags.join(' '),
  address: d.address,
  port: d.port,
  parent: d.parent ?? '',
  jump: d.jump ?? '',
  note: d.note ?? '',
  fields: Object.entries(d.fields ?? {})
    .map(([k, v]) => `${k}=${v}`)
    .join('\n'),
  disabled: d.disabled,
})
const kinds = ['router', 'switch', 'firewall', 'wireless-controller', 'access-point', 'other'].map((k) => ({ value: k, label: k }))
const words = (s: string) => s.split(/\s+/).filter(Boolean)
const fields = () =>
  Object.fromEntries(
    form.fields
      .split('\n')
      .filter((l) => l.includes('='))
      .map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()]),
  )
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const body = {
      name: form.name !== d.name ? form.name : undefined,
      site: form.site,
      kind: form.kind,
      tags: form.tags === d.tags.join(' ') ? undefined : words(form.tags),
      address: form.address !== d.address ? form.address : undefined,
      port: form.port !== d.port ? form.port : undefined,
      parent: form.parent !== (d.parent ?? '') ? form.parent : undefined,
      jump: form.jump !== (d.jump ?? '') ? form.jump : undefined,
      note: form.note,
      fields: fields(),
      disabled: form.disabled,
    }
    const path = '/devices/' + encodeURIComponent(d.name)
    emit('changed', await call<Device>('PATCH', path, body, { 'If-Match': `"${d.revision}"` }))
  })
</script>

<template>
  <ModalDialog :title="`Change what is registered of ${d.name}`" wide @close="emit('close')">
    <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Change it" leaves @send="send" @leave="emit('close')">
      <div class="grid gap-3 sm:grid-cols-2">
        <FormField v-model.trim="form.name" label="Name" name="entry-name" required :problem="problem('name')" />
        <FormField v-model.trim="form.site" label="Site" name="entry-site" :problem="problem('site')" />
        <FormField v-model="form.kind" label="Kind" name="entry-kind" type="select" :options="kinds" />
        <FormField v-model="form.tags" label="Tags" name="entry-tags" hint="with blanks between" :problem="problem('tags')" />
        <FormField v-model.trim="form.address" label="Address" name="entry-address" :problem="problem('address')" />
        <FormField v-model="form.port" label="Port" name="entry-port" type="number" :min="1" :max="65535" :problem="problem('port')" />
        <FormField v-model.trim="form.parent" label="Hangs on" name="entry-parent" hint="a device's name" :problem="problem('parent')" />
        <FormField v-model.trim="form.jump" label="Reached through" name="entry-jump" hint="a device's name" :problem="problem('jump')" />
      </div>
      <FormField v-model="form.note" label="Note" name="entry-note" type="area" :rows="2" :problem="problem('note')" />
      <FormField
        v-model="form.fields"
        label="Fields of your own"
        name="entry-fields"
        type="area"
        mono
        :rows="2"
        placeholder="rack=B4"
        hint="NAME=VALUE, a line for each"
        :problem="problem('fields')"
      />
      <FormField v-model="form.disabled" label="keep it, and visit it no more" name="entry-disabled" type="check" />
    </AppForm>
  </ModalDialog>
</template>
