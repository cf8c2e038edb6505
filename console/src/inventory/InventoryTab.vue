<script setup lang="ts">
import DeviceFile from './DeviceFile.vue'
import WhoAnswers from './WhoAnswers.vue'

// What is registered, as a file out and in; and who answers where nobody is registered.
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)] gap-6">
    <WhoAnswers />
    <DeviceFile />
  </div>
</template>
