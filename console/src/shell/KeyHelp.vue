<script setup lang="ts">
import { allKeys } from '../composables/keys'
import ModalDialog from '../design/ModalDialog.vue'

defineEmits<{ close: [] }>()
</script>

<template>
  <ModalDialog title="Keys" @close="$emit('close')">
    <dl class="grid grid-cols-[auto_1fr] gap-x-4 gap-y-2">
      <template v-for="k in allKeys()" :key="k.keys">
        <dt>
          <kbd v-for="c in k.keys.split(' ')" :key="c" class="mr-1">{{ c }}</kbd>
        </dt>
        <dd>{{ k.does }}</dd>
      </template>
    </dl>
    <p class="text-faded">In a list: arrows move, Enter opens, the space bar picks, Home and End go to its ends.</p>
  </ModalDialog>
</template>
