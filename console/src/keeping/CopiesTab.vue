<script setup lang="ts">
import BackupList from './BackupList.vue'
import TargetList from './TargetList.vue'

// Where copies of versions are kept besides here, and backups of the service itself.
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)] gap-6">
    <TargetList />
    <BackupList />
  </div>
</template>
