<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { allKeys } from '../composables/keys'

defineProps<{ open: boolean }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <Dialog :open="open" class="relative z-50" @close="$emit('close')">
    <div class="fixed inset-0 bg-black/40" aria-hidden="true"></div>
    <div class="fixed inset-0 grid place-items-center p-4">
      <DialogPanel class="card w-full max-w-md p-6 shadow-lg">
        <DialogTitle as="h1" class="mb-3">Keys</DialogTitle>
        <dl class="grid grid-cols-[auto_1fr] gap-x-4 gap-y-2">
          <template v-for="k in allKeys()" :key="k.keys">
            <dt>
              <kbd v-for="c in k.keys.split(' ')" :key="c" class="mr-1">{{ c }}</kbd>
            </dt>
            <dd>{{ k.does }}</dd>
          </template>
        </dl>
        <button type="button" class="button mt-4" @click="$emit('close')">Close</button>
      </DialogPanel>
    </div>
  </Dialog>
</template>
