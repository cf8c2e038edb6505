<script setup lang="ts">
import DeviceFile from './DeviceFile.vue'
import DiscoveryForm from './DiscoveryForm.vue'
import RemovedList from './RemovedList.vue'

// What is registered, as a file out and in; and what answers where nobody is registered.
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)] gap-6">
    <DiscoveryForm />
    <DeviceFile />
    <RemovedList />
  </div>
</template>
