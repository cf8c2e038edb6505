<script setup lang="ts">
import { computed, ref } from 'vue'
import { ApiError } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import { useSession } from '../session'

const props = defineProps<{ user?: string }>()
const session = useSession()
const user = ref(props.user ?? '')
const password = ref('')
const code = ref('')
const coded = ref(false) // this user's sign-ins take a one-time code
const { busy, trouble, attempt } = useAttempt()
const asks = computed(() => trouble.value instanceof ApiError && trouble.value.problem.field === 'code')
async function go() {
  const asked = code.value !== ''
  if (await attempt(() => session.signIn(user.value, password.value, code.value))) return
  if (!asks.value) return
  coded.value = true
  if (!asked) trouble.value = undefined // it is asked for now
}
</script>

<template>
  <AppForm :busy="busy" :trouble="trouble" deed="Sign in" @send="go">
    <FormField v-model="user" label="User" name="user" autocomplete="username" required />
    <FormField v-model="password" label="Password" type="password" name="password" autocomplete="current-password" required />
    <FormField
      v-if="coded"
      v-model.trim="code"
      label="The code that your device shows now"
      name="code"
      autocomplete="one-time-code"
      hint="or one of your recovery codes"
      required
    />
  </AppForm>
</template>
