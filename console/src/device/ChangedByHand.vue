<script setup lang="ts">
import { ref } from 'vue'
import { post, type Device } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// Somebody says that a device was changed, and by whom; it is pulled once it is quiet.
const props = defineProps<{ device: Device }>()
const emit = defineEmits<{ close: []; said: [] }>()
const author = ref('')
const { busy, trouble, attempt } = useAttempt()
const send = async () => {
  if (await attempt(() => post('/change-triggers', { selector: [props.device.name], author: author.value || undefined }))) emit('said')
}
</script>

<template>
  <ModalDialog :title="`${device.name} was changed`" @close="emit('close')">
    <p class="text-faded">It is pulled once nothing more was said of it for half a minute, with this person as the author.</p>
    <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Say so" leaves @send="send" @leave="emit('close')">
      <FormField v-model.trim="author" label="By whom" name="author" hint="may be left empty" :problem="problem('author')" />
    </AppForm>
  </ModalDialog>
</template>
