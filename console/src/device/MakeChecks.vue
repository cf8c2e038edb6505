<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { once } from '../composables/once'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'

// Makes checks of devices by themselves, without a push.
const props = defineProps<{ selector: string[] }>()
const router = useRouter()
const lines = ref('')
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const checks = lines.value
      .split('\n')
      .map((l) => l.trim())
      .filter(Boolean)
    const j = await post<Job>('/checks', { selector: props.selector, checks }, { 'Idempotency-Key': once() })
    void router.push('/jobs/' + j.id)
  })
</script>

<template>
  <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Check now" @send="send">
    <FormField
      v-model="lines"
      label="Checks, one a line"
      name="checks-now"
      type="area"
      mono
      :rows="3"
      placeholder="tcp 10.0.0.1:53"
      hint="left empty: whether the device takes connections"
      :problem="problem('checks')"
    />
  </AppForm>
</template>
