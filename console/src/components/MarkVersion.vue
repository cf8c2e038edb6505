<script setup lang="ts">
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { reactive, watch } from 'vue'
import type { Schemas, Version } from '../api/call'

// A version's name and marks, changed in place.
const props = defineProps<{ version: Version; can: boolean }>()
const emit = defineEmits<{ mark: [m: Schemas['Mark']] }>()
const form = reactive({ name: '', note: '', pin: false, baseline: false })
const fill = () =>
  Object.assign(form, {
    name: props.version.name ?? '',
    note: props.version.note ?? '',
    pin: props.version.pinned,
    baseline: props.version.baseline,
  })
watch(() => props.version.id, fill, { immediate: true })
</script>

<template>
  <span class="inline-flex flex-wrap items-center gap-x-2">
    <span v-if="version.name" class="font-medium text-teal">{{ version.name }}</span>
    <span v-if="version.baseline" class="rounded border border-violet px-1 text-xs text-violet">baseline</span>
    <span v-if="version.pinned" class="rounded border border-rule px-1 text-xs">pinned</span>
    <span v-if="version.note" class="text-faded">{{ version.note }}</span>
    <Popover v-if="can" class="relative">
      <PopoverButton
        class="cursor-pointer text-faded underline hover:text-teal"
        :aria-label="'mark version ' + version.number"
        @click="fill"
        >mark</PopoverButton
      >
      <PopoverPanel v-slot="{ close }" class="card absolute right-0 z-20 mt-1 w-72 p-3 shadow-lg">
        <form class="grid gap-2" @submit.prevent="(emit('mark', { ...form }), close())">
          <label class="grid gap-1">Name<input v-model.trim="form.name" class="field" /></label>
          <label class="grid gap-1">Note<input v-model="form.note" class="field" /></label>
          <label class="flex gap-2"><input v-model="form.pin" type="checkbox" class="accent-violet" />Pin: keep it whatever happens</label>
          <label class="flex gap-2"
            ><input v-model="form.baseline" type="checkbox" class="accent-violet" />Baseline: drift is judged against it</label
          >
          <button class="button-main justify-center">Keep</button>
        </form>
      </PopoverPanel>
    </Popover>
  </span>
</template>
