<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { ApiError, call, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useSession } from '../session'
import { said } from './signon'

const props = defineProps<{ user?: string }>()
const session = useSession()
const user = ref(props.user ?? '')
const password = ref('')
const code = ref('')
const coded = ref(false) // this user's sign-ins take a one-time code
const label = ref('') // who signs people in besides
const refused = ref(said())
const { busy, trouble, attempt } = useAttempt()
const asks = computed(() => trouble.value instanceof ApiError && trouble.value.problem.field === 'code')
onMounted(async () => (label.value = (await call<Schemas['SignOn']>('GET', '/sign-on').catch(() => ({ label: '' }))).label))
const there = computed(() => '/api/v1/sign-on/start?to=' + encodeURIComponent(location.pathname + location.search))
async function go() {
  const asked = code.value !== ''
  refused.value = undefined
  if (await attempt(() => session.signIn(user.value, password.value, code.value))) return
  if (!asks.value) return
  coded.value = true
  if (!asked) trouble.value = undefined // it is asked for now
}
</script>

<template>
  <div class="grid gap-4">
    <ProblemNote :error="refused" />
    <template v-if="label">
      <a :href="there" class="button-main justify-center text-center">Sign in with {{ label }}</a>
      <p class="text-center text-faded">or with a password of this service</p>
    </template>
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
  </div>
</template>
