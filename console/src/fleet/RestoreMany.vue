<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import { once } from '../composables/once'

// Asks what putting devices back would take; nothing is touched by that.
const props = defineProps<{ selector: string[]; whom: string; which?: string }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const which = ref(props.which ?? '')
const { busy, trouble, attempt } = useAttempt()
const key = once()
const send = () =>
  attempt(async () => {
    // A time without a zone is one of the reader's own.
    const to = /^\d{4}-\d\d-\d\dT[\d:]+$/.test(which.value) ? new Date(which.value).toISOString() : which.value.trim()
    const j = await post<Job>('/restore-previews', { selector: props.selector, which: to }, { 'Idempotency-Key': key })
    void router.push('/jobs/' + j.id)
  })
</script>

<template>
  <ModalDialog :title="`Put ${whom} back`" @close="emit('close')">
    <AppForm :busy="busy" :trouble="trouble" deed="See what it takes" leaves :unable="!which.trim()" @send="send" @leave="emit('close')">
      <FormField
        v-model="which"
        label="To which version of each"
        name="which"
        placeholder="baseline"
        hint="baseline, previous, a name, or a time as 2026-11-16T09:00. Nothing is touched before you say so."
        required
      />
    </AppForm>
  </ModalDialog>
</template>
