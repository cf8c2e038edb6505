<script setup lang="ts">
import { ref } from 'vue'
import { useSession } from '../session'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ user?: string }>()
const session = useSession()
const user = ref(props.user ?? '')
const password = ref('')
const busy = ref(false)
const trouble = ref<Error>()

async function go() {
  busy.value = true
  trouble.value = undefined
  try {
    await session.signIn(user.value, password.value)
  } catch (e) {
    trouble.value = e as Error
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="grid gap-3" @submit.prevent="go">
    <label class="grid gap-1">User<input v-model="user" class="field" name="user" autocomplete="username" required /></label>
    <label class="grid gap-1"
      >Password<input v-model="password" class="field" type="password" name="password" autocomplete="current-password" required
    /></label>
    <ProblemNote :error="trouble" />
    <button class="button-main justify-center" :disabled="busy">Sign in</button>
  </form>
</template>
