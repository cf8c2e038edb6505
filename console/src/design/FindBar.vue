<script setup lang="ts">
import { ref } from 'vue'
import { useKeys } from '../composables/keys'
import type { useFind } from './pane'

// Looks for a text in what is shown.
defineProps<{ find: ReturnType<typeof useFind> }>()
const box = ref<HTMLInputElement>()
useKeys([{ keys: '/', does: 'find in the text', run: () => box.value?.focus() }])
</script>

<template>
  <span class="flex items-center gap-1">
    <input
      ref="box"
      type="search"
      class="field w-40 py-0.5"
      aria-label="Find in the text"
      placeholder="find"
      :value="find.sought.value"
      @input="find.seek(($event.target as HTMLInputElement).value)"
      @keydown.enter.prevent="find.step($event.shiftKey ? -1 : 1)"
      @keydown.esc="box?.blur()"
    />
    <span v-if="find.sought.value" class="whitespace-nowrap text-faded" role="status">
      {{ find.hits.value.length ? `${find.at.value + 1} of ${find.hits.value.length}` : 'not found' }}
    </span>
  </span>
</template>
