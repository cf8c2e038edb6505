<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ApiError, get, post, query, type Schemas, type Version } from '../api/call'
import ProblemNote from '../components/ProblemNote.vue'
import { useAttempt } from '../composables/attempt'

// A version's text, to be changed and kept as another version.
const route = useRoute()
const router = useRouter()
const of = String(route.query.ref ?? '')
const text = ref('')
const note = ref('')
const unlikely = ref('') // what speaks against the text, once the service said so
const override = ref('')
const before = ref('')
const masked = ref(false)
const opaque = ref(false)
const { busy, trouble, attempt } = useAttempt()

const load = () =>
  attempt(async () => {
    const t = await get<Schemas['Text']>('/version' + query({ ref: of }))
    before.value = text.value = t.text
    masked.value = !!t.masked
    opaque.value = !!t.opaque
  })
void load()

const keep = () =>
  attempt(async () => {
    const v = await post<Version>('/versions', {
      ref: of,
      text: text.value,
      note: note.value,
      override: override.value || undefined,
    }).catch((e) => {
      if (!(e instanceof ApiError) || e.problem.status !== 409) throw e
      unlikely.value = e.problem.detail ?? ''
    })
    if (!v) return
    void router.push(`/compare?from=${of}&to=${v.ref}`)
  })
</script>

<template>
  <h1 class="mb-1">Edit {{ of }}</h1>
  <p class="mb-3 text-faded">
    Kept as another version; {{ of }} stays as it is, and the device is not touched until the new one is pushed.
  </p>
  <p v-if="masked" class="rounded border border-gone-mark bg-gone px-3 py-2 text-gone-ink">
    Its secrets are not shown to you, so it cannot be edited: the new version would lack them.
  </p>
  <p v-else-if="opaque" class="text-faded">It is an opaque file; there is nothing in it that can be edited here.</p>
  <form v-else-if="before" class="grid gap-3" @submit.prevent="keep">
    <label class="grid gap-1"
      ><span class="sr-only">The text</span
      ><textarea
        v-model="text"
        class="field min-h-[50vh] font-mono text-[13px] leading-5 whitespace-pre"
        name="text"
        wrap="off"
        spellcheck="false"
        autocomplete="off"
      ></textarea>
    </label>
    <div v-if="unlikely" class="grid gap-2 rounded border border-gone-mark bg-gone px-3 py-2 text-gone-ink" role="alert">
      <p>{{ unlikely }}</p>
      <label class="grid gap-1">Why is it kept all the same?<input v-model="override" class="field" name="override" /></label>
    </div>
    <div class="flex flex-wrap items-end gap-3">
      <label class="grid grow gap-1">What was changed<input v-model="note" class="field" name="note" /></label>
      <button class="button-main" :disabled="busy || text === before || (!!unlikely && !override)">Keep as another version</button>
    </div>
  </form>
  <ProblemNote :error="trouble" class="mt-3" />
</template>
