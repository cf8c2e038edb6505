<script setup lang="ts">
import { ref } from 'vue'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import { useSession } from '../session'

const props = defineProps<{ user?: string }>()
const session = useSession()
const user = ref(props.user ?? '')
const password = ref('')
const { busy, trouble, attempt } = useAttempt()
const go = () => attempt(() => session.signIn(user.value, password.value))
</script>

<template>
  <AppForm :busy="busy" :trouble="trouble" deed="Sign in" @send="go">
    <FormField v-model="user" label="User" name="user" autocomplete="username" required />
    <FormField v-model="password" label="Password" type="password" name="password" autocomplete="current-password" required />
  </AppForm>
</template>
