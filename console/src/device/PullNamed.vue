<script setup lang="ts">
import { reactive } from 'vue'
import { post, type Job, type Page } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// A pull whose versions are given a name and a reason at the moment they are taken.
const props = defineProps<{ selector: string[]; whom: string }>()
const emit = defineEmits<{ close: []; begun: [jobs: Job[]] }>()
const form = reactive({ name: '', note: '' })
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const page = await post<Page<Job>>('/pulls', { selector: props.selector, name: form.name || undefined, note: form.note || undefined })
    emit('begun', page.items)
  })
</script>

<template>
  <ModalDialog :title="`Pull ${whom} and name it`" @close="emit('close')">
    <p class="text-faded">Where nothing changed, the current versions are given the name.</p>
    <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Pull" leaves @send="send" @leave="emit('close')">
      <FormField v-model.trim="form.name" label="Name" name="pull-name" placeholder="before-upgrade" :problem="problem('name')" required />
      <FormField v-model="form.note" label="Why" name="pull-note" type="area" :rows="2" :problem="problem('note')" />
    </AppForm>
  </ModalDialog>
</template>
