<script setup lang="ts">
import TabBar from '../design/TabBar.vue'
import DriftTab from '../drift/DriftTab.vue'
import RulesTab from '../drift/RulesTab.vue'

// Which devices do not run what they should, and what people want of lines.
const tabs = [
  { name: 'drifted', label: 'Drifted' },
  { name: 'rules', label: 'Rules for lines' },
]
</script>

<template>
  <h1 class="mb-2">Drift</h1>
  <TabBar :tabs="tabs" label="Drift">
    <template #drifted><DriftTab /></template>
    <template #rules><RulesTab /></template>
  </TabBar>
</template>
