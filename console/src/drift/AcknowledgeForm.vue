<script setup lang="ts">
import { ref } from 'vue'
import { post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import { serverNow } from '../api/clock'

// Says of what differs now that somebody knows of it, until a time.
const props = defineProps<{ selector: string[]; whom: string }>()
const emit = defineEmits<{ close: [] }>()
const inDays = (n: number) => {
  const at = new Date(serverNow() + n * 86_400_000)
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
}
const until = ref(inDays(14))
const reason = ref('')
const end = ref<Schemas['Acknowledged']>()
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const body = { selector: props.selector, reason: reason.value, until: new Date(until.value).toISOString() }
    const out = await post<Schemas['Acknowledged']>('/acknowledgements', body)
    if (out.skipped.length) end.value = out
    else emit('close')
  })
</script>

<template>
  <ModalDialog :title="`Acknowledge the drift of ${whom}`" @close="emit('close')">
    <template v-if="end">
      <p role="status">{{ end.parts.length }} acknowledged.</p>
      <ul class="note max-h-60 overflow-auto">
        <li v-for="s in end.skipped" :key="s.device">{{ s.device }}: {{ s.why }}; left as it was</li>
      </ul>
    </template>
    <AppForm
      v-else
      v-slot="{ problem }"
      :busy="busy"
      :trouble="trouble"
      deed="Acknowledge"
      leaves
      :unable="!reason.trim() || !until"
      @send="send"
      @leave="emit('close')"
    >
      <FormField v-model="reason" label="Why it may stay as it is" name="reason" :problem="problem('reason')" required />
      <FormField
        v-model="until"
        type="datetime-local"
        label="Until"
        name="until"
        :problem="problem('until')"
        hint="Then it is drift again; and at once, if other lines differ."
        required
      />
    </AppForm>
  </ModalDialog>
</template>
