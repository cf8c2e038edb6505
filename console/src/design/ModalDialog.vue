<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'

// What has to be dealt with before anything else. A drawer comes in from the side and
// leaves more room.
defineProps<{ title: string; wide?: boolean; drawer?: boolean; stays?: boolean }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <Dialog :open="true" class="relative z-40" @close="stays ? undefined : $emit('close')">
    <div class="fixed inset-0 bg-black/40" aria-hidden="true"></div>
    <div class="fixed inset-0 overflow-y-auto" :class="drawer ? 'flex justify-end' : 'p-3 sm:p-6'">
      <DialogPanel
        class="relative grid w-full content-start gap-3 border-rule bg-paper p-5 shadow-lg"
        :class="drawer ? 'min-h-full max-w-xl border-l' : ['mx-auto rounded-md border', wide ? 'max-w-3xl' : 'max-w-md']"
      >
        <DialogTitle as="h1" class="pr-8">{{ title }}</DialogTitle>
        <slot />
        <button v-if="!stays" type="button" class="icon-button absolute top-4 right-4" aria-label="Close" @click="$emit('close')">✕</button>
      </DialogPanel>
    </div>
  </Dialog>
</template>
