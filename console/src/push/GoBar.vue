<script setup lang="ts">
import { ref } from 'vue'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import MeantField from './MeantField.vue'

// The one button that sends, always in sight.
defineProps<{ name: string; deed: string; lacks: string; busy: boolean; trouble?: Error | null; back: string }>()
const emit = defineEmits<{ go: [] }>()
const meant = ref(false)
</script>

<template>
  <div class="sticky bottom-0 z-20 -mx-3 mt-4 border-t border-rule bg-paper px-3 py-2 sm:-mx-5 sm:px-5" aria-label="Send it" role="group">
    <AppForm :trouble="trouble" :busy="busy" :unable="!meant || !!lacks" @send="emit('go')">
      <div class="flex flex-wrap items-end gap-3">
        <RouterLink :to="back" class="pb-1.5">Back, sending nothing</RouterLink>
        <span class="grow"></span>
        <span v-if="lacks" class="pb-1.5 text-gone-ink">First {{ lacks }}.</span>
        <MeantField v-model="meant" :name="name" />
        <AppButton main submit :busy="busy || !meant || !!lacks">{{ deed }}</AppButton>
      </div>
    </AppForm>
  </div>
</template>
