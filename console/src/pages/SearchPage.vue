<script setup lang="ts">
import TabBar from '../design/TabBar.vue'
import ChangesTab from '../search/ChangesTab.vue'
import SearchTab from '../search/SearchTab.vue'

// Lines of what runs now on all devices, and what changed on them.
const tabs = [
  { name: 'lines', label: 'What runs now' },
  { name: 'changes', label: 'What changed' },
]
</script>

<template>
  <h1 class="mb-2">Search</h1>
  <TabBar :tabs="tabs" label="Search">
    <template #lines><SearchTab /></template>
    <template #changes><ChangesTab /></template>
  </TabBar>
</template>
