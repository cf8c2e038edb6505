<script setup lang="ts">
import { computed, ref } from 'vue'
import { query } from '../api/call'
import AppButton from '../design/AppButton.vue'
import CopyButton from '../design/CopyButton.vue'
import FactList from '../design/FactList.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import TextPane from '../design/TextPane.vue'
import { useSession } from '../session'
import { useText } from './text'

// A version's text, with what one looks for in it beside it. Its secrets are hidden
// until somebody who may asks for them, which is written down.
const props = defineProps<{ of: string }>()
const session = useSession()
const open = ref(false)
const {
  data: t,
  error,
  isLoading,
} = useText(
  () => props.of,
  () => open.value,
)
const counts = computed(() => {
  const x = t.value
  if (!x || x.opaque) return [{ word: 'bytes', says: x?.size }]
  const lines = x.text.replace(/\r?\n$/, '').split('\n').length
  const outer = x.blocks.filter(([a, b]) => !x.blocks.some(([c, e]) => c < a && e >= b)).length
  return [
    { word: 'lines', says: lines },
    { word: 'blocks', says: outer || undefined },
    { word: 'comments', says: x.comments.length || undefined },
    { word: 'bytes', says: x.size },
  ]
})
const marks = computed(() => (t.value?.key_facts ?? []).map((l) => ({ word: l.name, says: l.values.join(', ') })))
const download = computed(() => '/api/v1/version/text' + query({ ref: props.of }))
</script>

<template>
  <ProblemNote :error="error" />
  <p v-if="isLoading && !t" class="text-faded" role="status">Reading…</p>
  <div v-if="t" class="grid gap-3 xl:grid-cols-[minmax(0,1fr)_17rem]">
    <p v-if="t.opaque" class="card p-4">
      It is an opaque file of {{ t.size }} bytes; there is nothing in it that can be read here. <a :href="download" download>Download it</a>
    </p>
    <TextPane v-else :label="'Text of ' + t.ref" :text="t.text" :blocks="t.blocks" :comments="t.comments">
      <template #deeds>
        <FormField v-if="t.hides && session.me?.secrets" v-model="open" type="check" label="secrets" name="secrets" />
        <span v-else-if="t.masked && t.hides" class="text-faded">secrets are masked</span>
        <CopyButton small :text="() => t!.text">Copy</CopyButton>
        <a class="button is-small" :href="download" download>Download</a>
      </template>
    </TextPane>
    <aside class="grid content-start gap-3">
      <slot />
      <section v-if="marks.length">
        <h2 class="mb-1">Key facts</h2>
        <FactList :facts="marks" />
      </section>
      <section>
        <h2 class="mb-1">Counts</h2>
        <FactList :facts="counts" />
      </section>
    </aside>
  </div>
  <AppButton v-if="error" class="mt-2" @click="open = false">Without its secrets</AppButton>
</template>
