<script setup lang="ts">
import { ref } from 'vue'
import { post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// Approves a version of each of some devices.
const props = defineProps<{ selector: string[]; whom: string }>()
const emit = defineEmits<{ close: [] }>()
const which = ref('latest')
const end = ref<Schemas['Baselined']>()
const { busy, trouble, attempt } = useAttempt()
const send = () => attempt(async () => void (end.value = await post('/baselines', { selector: props.selector, which: which.value.trim() })))
</script>

<template>
  <ModalDialog :title="`A baseline of ${whom}`" @close="emit('close')">
    <template v-if="end">
      <p v-if="end.items.length || !end.waiting" role="status">
        {{ end.items.length }} {{ end.items.length === 1 ? 'device is' : 'devices are' }} judged by it from now on.
      </p>
      <p v-if="end.waiting" role="status">
        A second person has to approve {{ end.waiting }}: <RouterLink :to="'/jobs/' + end.job">the job that waits for it</RouterLink>
      </p>
      <ul v-if="end.skipped.length" class="note max-h-60 overflow-auto">
        <li v-for="s in end.skipped" :key="s.device">{{ s.device }}: {{ s.why }}; left as it was</li>
      </ul>
    </template>
    <AppForm v-else :busy="busy" :trouble="trouble" deed="Approve" leaves :unable="!which.trim()" @send="send" @leave="emit('close')">
      <FormField
        v-model="which"
        label="Which version of each"
        name="which"
        hint="latest, a name as summer-timetable, a number, or a time. Drift is judged against it."
        required
      />
    </AppForm>
  </ModalDialog>
</template>
