<script setup lang="ts">
import FilesIn from './FilesIn.vue'
import FilesOut from './FilesOut.vue'
import { useSession } from '../session'

// Versions as files, out and in.
const admin = useSession().may('admin')
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)] gap-6">
    <FilesOut />
    <FilesIn v-if="admin" />
  </div>
</template>
