<script setup lang="ts">
import { reactive } from 'vue'
import { call, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// Makes or changes a credential set. What is left empty stays as it is.
const props = defineProps<{ set?: Schemas['CredentialSet'] }>()
const emit = defineEmits<{ close: [] }>()
const form = reactive({
  name: '',
  selector: props.set?.selector ?? '',
  user: props.set?.user ?? '',
  password: '',
  key: '',
  privileged_secret: '',
  passphrase: '',
  factory_user: '',
  factory_password: '',
})
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const body = Object.fromEntries(Object.entries(form).filter(([k, v]) => v || (k === 'selector' && props.set)))
    if (props.set)
      await call('PATCH', '/credentials/' + encodeURIComponent(props.set.name), body, { 'If-Match': `"${props.set.revision}"` })
    else await post('/credentials', body)
    emit('close')
  })
const kept = props.set ? 'left empty, it stays as it is' : ''
</script>

<template>
  <ModalDialog :title="set ? `Change credential set ${set.name}` : 'Make a credential set'" wide @close="emit('close')">
    <p v-if="set" class="text-faded">
      {{ set.devices }} {{ set.devices === 1 ? 'device uses' : 'devices use' }} it; a new login is tried again everywhere.
    </p>
    <AppForm
      v-slot="{ problem }"
      across
      :busy="busy"
      :trouble="trouble"
      :deed="set ? 'Change it' : 'Make it'"
      leaves
      @send="send"
      @leave="emit('close')"
    >
      <FormField v-if="!set" v-model.trim="form.name" label="Name" name="set-name" :problem="problem('name')" required />
      <FormField v-model.trim="form.user" label="User" name="set-user" :problem="problem('user')" required />
      <FormField v-model="form.password" label="Password" name="set-password" type="password" autocomplete="new-password" :hint="kept" />
      <FormField
        v-model="form.privileged_secret"
        label="Secret of the privileged mode"
        name="set-privileged"
        type="password"
        autocomplete="new-password"
        :hint="kept"
      />
      <FormField v-model="form.selector" label="New devices that get it" name="set-selector" placeholder="site=skerrinsay" />
      <FormField
        v-model="form.passphrase"
        label="What archives are encrypted under"
        name="set-passphrase"
        type="password"
        autocomplete="new-password"
        :hint="kept"
      />
      <FormField v-model.trim="form.factory_user" label="User of a unit with factory settings" name="set-factory-user" />
      <FormField
        v-model="form.factory_password"
        label="Its password"
        name="set-factory-password"
        type="password"
        autocomplete="new-password"
      />
      <FormField v-model="form.key" class="form-whole" label="Private key" name="set-key" type="area" mono :hint="kept" />
    </AppForm>
  </ModalDialog>
</template>
