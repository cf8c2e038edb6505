<script setup lang="ts">
import { ref } from 'vue'

// Copies a text, and says that it did.
const props = defineProps<{ text: () => string | Promise<string>; small?: boolean }>()
const said = ref('')
async function copy() {
  try {
    const text = await props.text()
    if (navigator.clipboard) await navigator.clipboard.writeText(text)
    else byHand(text)
    said.value = 'copied'
  } catch {
    said.value = 'not copied: the browser does not allow it'
  }
  setTimeout(() => (said.value = ''), 2500)
}
// Without TLS a browser offers no clipboard but this.
function byHand(text: string) {
  const area = Object.assign(document.createElement('textarea'), { value: text })
  document.body.append(area)
  area.select()
  document.execCommand('copy')
  area.remove()
}
</script>

<template>
  <span class="inline-flex items-center gap-2">
    <button type="button" class="button" :class="small ? 'is-small' : ''" @click="copy"><slot>Copy</slot></button>
    <span role="status" class="text-faded empty:hidden">{{ said }}</span>
  </span>
</template>
