<script setup lang="ts">
import { ref } from 'vue'
import { call, type Device } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import ModalDialog from '../design/ModalDialog.vue'
import MeantField from '../push/MeantField.vue'

// Takes a device out of every list; what is kept of it stays.
const props = defineProps<{ device: Device }>()
const emit = defineEmits<{ close: []; removed: [] }>()
const meant = ref(false)
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    await call('DELETE', '/devices/' + encodeURIComponent(props.device.name))
    emit('removed')
  })
</script>

<template>
  <ModalDialog :title="`Remove ${device.name}`" @close="emit('close')">
    <AppForm :busy="busy" :trouble="trouble" deed="Remove it" leaves :unable="!meant" @send="send" @leave="emit('close')">
      <p>
        It is visited no more and leaves every list. Its versions stay: <i>Settings, Inventory</i> lists it as removed, and it can come back
        from there.
      </p>
      <p v-if="device.children?.length" class="text-gone-ink">
        {{ device.children.length }} {{ device.children.length === 1 ? 'device hangs' : 'devices hang' }} on it.
      </p>
      <MeantField v-model="meant" :name="device.name" />
    </AppForm>
  </ModalDialog>
</template>
