<script setup lang="ts">
// A page or list with nothing in it says so, and what to do first.
defineProps<{ title: string }>()
</script>

<template>
  <div class="mx-auto grid max-w-prose justify-items-center gap-2 px-4 py-10 text-center">
    <p class="font-semibold">{{ title }}</p>
    <div class="text-faded"><slot /></div>
    <div class="flex flex-wrap justify-center gap-2"><slot name="deeds" /></div>
  </div>
</template>
