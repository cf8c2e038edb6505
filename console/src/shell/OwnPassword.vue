<script setup lang="ts">
import { computed, ref } from 'vue'
import { ApiError } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import { useSession } from '../session'

// Chooses a password of one's own.
const emit = defineEmits<{ chosen: [] }>()
const session = useSession()
const old = ref('')
const word = ref('')
const again = ref('')
const code = ref('')
const { busy, trouble, attempt } = useAttempt()
const choose = async () => {
  if (!(await attempt(() => session.choose(old.value, word.value, code.value)))) return
  old.value = word.value = again.value = code.value = ''
  emit('chosen')
}
const wrong = computed(() => (trouble.value instanceof ApiError ? trouble.value.problem : undefined))
const at = (field: string) => (wrong.value?.field === field ? wrong.value.detail : undefined)
const other = computed(() => (again.value && again.value !== word.value ? 'that is not the same' : undefined))
</script>

<template>
  <AppForm :busy="busy" :trouble="trouble" :unable="!old || !word || again !== word" deed="Choose it" @send="choose">
    <FormField
      v-model="old"
      label="The password you have"
      name="old"
      type="password"
      autocomplete="current-password"
      required
      :problem="at('old')"
    />
    <FormField
      v-model="word"
      label="The new one"
      name="new"
      type="password"
      autocomplete="new-password"
      required
      hint="10 characters or more"
      :problem="at('new')"
    />
    <FormField
      v-model="again"
      label="The new one again"
      name="again"
      type="password"
      autocomplete="new-password"
      required
      :problem="other"
    />
    <FormField
      v-if="session.me?.codes"
      v-model.trim="code"
      label="The code that your device shows now"
      name="own-code"
      autocomplete="one-time-code"
      :problem="at('code')"
    />
  </AppForm>
</template>
