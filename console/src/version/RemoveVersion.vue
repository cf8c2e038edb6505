<script setup lang="ts">
import { ref } from 'vue'
import { call, query, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import MeantField from '../push/MeantField.vue'

// Deletes one version for good: a wrong import, a secret that should not be here.
const props = defineProps<{ version: Schemas['Version'] }>()
const emit = defineEmits<{ close: []; removed: [] }>()
// The version may be gone: whoever shows it asks for it no more. It is there again when it was not deleted.
const going = defineModel<boolean>('going')
const meant = ref(false)
const reason = ref('')
const came = ref<Schemas['RemovedVersion']>()
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    going.value = true
    try {
      came.value = await call('DELETE', '/version' + query({ ref: props.version.ref, reason: reason.value.trim() }))
    } finally {
      going.value = !!came.value
    }
  })
const leave = () => (came.value ? emit('removed') : emit('close'))
</script>

<template>
  <ModalDialog :title="`Delete ${version.ref}`" @close="leave">
    <template v-if="came">
      <p class="mb-2">{{ came.ref }} was deleted.</p>
      <p v-if="came.same.length" class="mb-2 text-alarm">The same text is kept as {{ came.same.join(', ') }}.</p>
      <AppButton main @click="leave">Close</AppButton>
    </template>
    <AppForm
      v-else
      v-slot="{ problem }"
      :busy="busy"
      :trouble="trouble"
      deed="Delete it"
      leaves
      :unable="!meant || !reason.trim()"
      @send="send"
      @leave="emit('close')"
    >
      <p>
        It goes for good, and its copies leave the targets. Targets that keep what is deleted here, Git targets and backups have it still: a
        secret that leaked is changed on the device, too.
      </p>
      <FormField v-model="reason" label="Why, for the audit log" name="reason" :problem="problem('reason')" required />
      <MeantField v-model="meant" :name="version.ref" />
    </AppForm>
  </ModalDialog>
</template>
