<script setup lang="ts">
import type { Device } from '../api/call'
import StateMark from '../design/StateMark.vue'

// How a device stands, in its dialect's own word where it has one.
defineProps<{ device: Device }>()
</script>

<template>
  <StateMark v-if="device.disabled" state="paused" word="disabled" />
  <StateMark
    v-else
    :state="device.state"
    :word="device.state === 'unsaved' ? device.apart?.word : ''"
    :also="device.state === 'drifted' ? device.apart?.word : device.acknowledged_until ? 'drift acknowledged' : ''"
  />
</template>
