<script setup lang="ts">
import { computed } from 'vue'
import { ApiError } from '../api/call'
import AppButton from './AppButton.vue'
import ProblemNote from './ProblemNote.vue'

// A form: its fields, what went wrong with it, and the buttons that send it or leave.
// What is wrong with a field of a name is said at that field, by the slot's problem.
const props = defineProps<{ busy?: boolean; trouble?: Error | null; deed?: string; unable?: boolean; across?: boolean; leaves?: boolean }>()
defineEmits<{ send: []; leave: [] }>()
const field = computed(() => (props.trouble instanceof ApiError ? props.trouble.problem.field : undefined))
const problem = (name: string) => (field.value === name ? props.trouble?.message : undefined)
</script>

<template>
  <form class="grid content-start gap-3" :class="across ? 'form-across' : ''" @submit.prevent="!busy && !unable && $emit('send')">
    <slot :problem="problem" />
    <ProblemNote :error="trouble" class="form-whole" />
    <div v-if="deed || $slots.deeds" class="form-whole flex flex-wrap gap-2">
      <AppButton v-if="deed" main submit :busy="busy || unable">{{ deed }}</AppButton>
      <slot name="deeds" />
      <AppButton v-if="leaves" @click="$emit('leave')">Cancel</AppButton>
    </div>
  </form>
</template>
