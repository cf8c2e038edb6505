<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { ref, watch } from 'vue'
import FormField from '../design/FormField.vue'

// Whether a device is meant: whoever has keys types its name; who has a thumb ticks it.
const props = defineProps<{ name: string }>()
const meant = defineModel<boolean>()
const thumb = useMediaQuery('(pointer: coarse)')
const typed = ref('')
const ticked = ref(false)
watch(
  () => [typed.value === props.name, ticked.value],
  ([t, k]) => (meant.value = t || k),
  { immediate: true },
)
</script>

<template>
  <FormField v-if="thumb" v-model="ticked" type="check" name="confirm-tick" class="pb-1.5" :label="`yes, ${name}`" />
  <FormField v-else v-model="typed" label="go ahead" name="confirm" class="w-56">
    <template #label
      >Type <b>{{ name }}</b> to go ahead</template
    >
  </FormField>
</template>
