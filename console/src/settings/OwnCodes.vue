<script setup lang="ts">
import { ref } from 'vue'
import { call, post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import CopyButton from '../design/CopyButton.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useSession } from '../session'

// One-time codes (RFC 6238) that one's sign-ins take besides the password.
const session = useSession()
const made = ref<Schemas['Codes']>()
const recovery = ref<string[]>()
const code = ref('')
const { busy, trouble, attempt } = useAttempt()
const make = () => attempt(async () => (made.value = await post<Schemas['Codes']>('/me/codes')))
const use = () =>
  attempt(async () => {
    recovery.value = (await call<Schemas['RecoveryCodes']>('PUT', '/me/codes', { code: code.value })).codes
    made.value = undefined
    code.value = ''
    await session.ask()
  })
const drop = () => attempt(async () => (await post('/me/codes/off', { code: code.value }), (code.value = ''), session.ask()))
</script>

<template>
  <section aria-labelledby="own-codes">
    <h2 id="own-codes" class="mb-1">One-time codes</h2>
    <p v-if="recovery" class="note mb-2" role="status">
      Your sign-ins take a code from now on. For the day on which the device is lost, each good once; keep them elsewhere:
      <code class="mono block select-all whitespace-pre">{{ recovery.join('\n') }}</code>
      <CopyButton :text="() => recovery!.join('\n')" />
    </p>
    <template v-if="session.me?.codes">
      <p class="mb-2 text-faded">Your sign-ins take a code; {{ session.me.recovery }} recovery codes are left.</p>
      <AppForm :busy="busy" :trouble="trouble" :unable="!code" deed="Take no codes any more" @send="drop">
        <FormField v-model.trim="code" label="A code of your device, or a recovery code" name="own-code" autocomplete="one-time-code" />
      </AppForm>
    </template>
    <template v-else-if="made">
      <p class="mb-2">
        Give this to the device that is to make codes: <code class="mono select-all">{{ made.secret }}</code>
        <CopyButton :text="() => made!.secret" />, or <a :href="made.url">open it there</a>.
      </p>
      <AppForm :busy="busy" :trouble="trouble" :unable="!code" deed="Take codes from now on" @send="use">
        <FormField v-model.trim="code" label="The code that it shows now" name="own-code" autocomplete="one-time-code" />
      </AppForm>
    </template>
    <template v-else>
      <p class="mb-2 text-faded">A sign-in can take a code besides the password, made by a device that you carry.</p>
      <ProblemNote :error="trouble" class="mb-2" />
      <AppButton :busy="busy" @click="make">Set codes up</AppButton>
    </template>
  </section>
</template>
