<script setup lang="ts">
import { reactive } from 'vue'
import { download } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useSession } from '../session'

// Versions taken out as one archive.
const session = useSession()
const form = reactive({ selector: '', snapshot: '', history: false, masked: false, as: 'tar.zst', recipients: '', passphrase: '' })
const { busy, trouble, attempt } = useAttempt()
const go = () =>
  attempt(async () => {
    const words = (s: string) => s.split(/\s+/).filter(Boolean)
    const { selector, recipients, ...rest } = form
    await download('/exports', { ...rest, selector: words(selector), recipients: words(recipients) })
  })
const forms = [
  { value: 'tar.zst', label: 'tar.zst' },
  { value: 'zip', label: 'zip' },
]
</script>

<template>
  <section aria-labelledby="files-out">
    <h2 id="files-out" class="mb-1">Versions out, as files</h2>
    <p class="mb-2 max-w-prose text-faded">
      One archive with a manifest as its last file: without that it was cut off. The newest version of each part, all of them, or those of a
      snapshot.
    </p>
    <div class="grid max-w-4xl gap-3 sm:grid-cols-2">
      <FormField v-model="form.selector" label="Of which devices" name="out-selector" placeholder="site=callowmere, or all" />
      <FormField v-model.trim="form.snapshot" label="Or what this snapshot holds" name="out-snapshot" />
      <FormField v-model="form.as" label="Form" name="out-as" type="select" :options="forms" />
      <FormField
        v-model="form.passphrase"
        label="Sealed under a passphrase"
        name="out-passphrase"
        type="password"
        autocomplete="new-password"
      />
      <FormField v-model="form.recipients" label="Or sealed to age recipients" name="out-recipients" mono />
      <div>
        <FormField v-model="form.history" type="check" label="all versions, not the newest only" name="out-history" />
        <FormField v-if="session.me?.secrets" v-model="form.masked" type="check" label="without secrets" name="out-masked" />
      </div>
    </div>
    <AppButton class="mt-3" :busy="busy || !(form.selector || form.snapshot)" @click="go">Take them out</AppButton>
    <ProblemNote :error="trouble" class="mt-2" />
  </section>
</template>
