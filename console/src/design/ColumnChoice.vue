<script setup lang="ts" generic="T extends object">
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { ViewColumnsIcon } from '@heroicons/vue/24/outline'
import type { Column } from './table'

// Which columns of a table are shown.
defineProps<{ columns: Column<T>[]; shown: Column<T>[] }>()
defineEmits<{ show: [column: Column<T>, on: boolean] }>()
</script>

<template>
  <Popover>
    <PopoverButton class="icon-button bg-leaf" aria-label="Choose columns"><ViewColumnsIcon class="size-4" /></PopoverButton>
    <PopoverPanel class="card absolute right-0 z-30 mt-1 grid w-48 gap-1 p-3 shadow-lg">
      <label v-for="c in columns.filter((x) => !x.always)" :key="c.id" class="flex items-center gap-2">
        <input
          type="checkbox"
          class="check"
          :checked="shown.some((x) => x.id === c.id)"
          @change="$emit('show', c, ($event.target as HTMLInputElement).checked)"
        />{{ c.label }}
      </label>
    </PopoverPanel>
  </Popover>
</template>
