<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ApiError, get, post, query, type Schemas, type Version } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'

// A version's text, to be changed and kept as another version.
const route = useRoute()
const router = useRouter()
const of = String(route.query.ref ?? '')
const text = ref('')
const note = ref('')
const unlikely = ref('') // what speaks against the text, once the service said so
const override = ref('')
const before = ref<Schemas['Text']>()
const { busy, trouble, attempt } = useAttempt()

void attempt(async () => {
  before.value = await get<Schemas['Text']>('/version' + query({ ref: of }))
  text.value = before.value.text
})
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
    if (v) void router.push(`/compare?from=${of}&to=${v.ref}`)
  })
</script>

<template>
  <h1 class="mb-1">Edit {{ of }}</h1>
  <p class="mb-3 text-faded">
    Kept as another version; {{ of }} stays as it is, and the device is not touched until the new one is pushed.
  </p>
  <EmptyNote v-if="before?.masked" title="It cannot be edited">
    Its secrets are not shown to you: the new version would lack them.
  </EmptyNote>
  <EmptyNote v-else-if="before?.opaque" title="It is an opaque file">There is nothing in it that can be edited here.</EmptyNote>
  <AppForm
    v-else
    :busy="busy"
    :trouble="trouble"
    :deed="before ? 'Keep as another version' : ''"
    :unable="text === before?.text || (!!unlikely && !override)"
    @send="keep"
  >
    <template v-if="before">
      <FormField v-model="text" bare label="The text" name="text" type="area" mono :rows="24" />
      <div v-if="unlikely" class="note grid gap-2" role="alert">
        <p>{{ unlikely }}</p>
        <FormField v-model="override" label="Why is it kept all the same?" name="override" />
      </div>
      <FormField v-model="note" label="What was changed" name="note" />
    </template>
  </AppForm>
</template>
