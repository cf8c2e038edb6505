<script setup lang="ts">
// A few choices beside each other, of which one holds.
defineProps<{ label: string; choices: { value: string; label: string }[] }>()
const model = defineModel<string>({ required: true })
</script>

<template>
  <div role="radiogroup" :aria-label="label" class="inline-flex flex-wrap overflow-hidden rounded border border-rule">
    <button
      v-for="c in choices"
      :key="c.value"
      type="button"
      role="radio"
      :aria-checked="model === c.value"
      class="cursor-pointer border-rule px-2.5 py-1 not-first:border-l"
      :class="model === c.value ? 'bg-ink text-paper' : 'hover:bg-leaf'"
      @click="model = c.value"
    >
      {{ c.label }}
    </button>
  </div>
</template>
