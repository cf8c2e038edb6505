<script setup lang="ts">
import ModalDialog from './ModalDialog.vue'

// A dialog that comes in from the side.
defineProps<{ title: string }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <ModalDialog drawer :title="title" @close="$emit('close')"><slot /></ModalDialog>
</template>
