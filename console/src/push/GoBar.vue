<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { computed, ref } from 'vue'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'

// The one button that sends, always in sight. Whoever has keys types the device's name
// first; who has a thumb ticks it.
const props = defineProps<{ name: string; deed: string; lacks: string; busy: boolean; trouble?: Error | null; back: string }>()
const emit = defineEmits<{ go: [] }>()
const thumb = useMediaQuery('(pointer: coarse)')
const typed = ref('')
const ticked = ref(false)
const meant = computed(() => typed.value === props.name || ticked.value)
</script>

<template>
  <div class="sticky bottom-0 z-20 -mx-3 mt-4 border-t border-rule bg-paper px-3 py-2 sm:-mx-5 sm:px-5" aria-label="Send it" role="group">
    <AppForm :trouble="trouble" :busy="busy" :unable="!meant || !!lacks" @send="emit('go')">
      <div class="flex flex-wrap items-end gap-3">
        <RouterLink :to="back" class="pb-1.5">Back, sending nothing</RouterLink>
        <span class="grow"></span>
        <span v-if="lacks" class="pb-1.5 text-gone-ink">First {{ lacks }}.</span>
        <FormField v-if="thumb" v-model="ticked" type="check" name="confirm-tick" class="pb-1.5" :label="`yes, ${name}`" />
        <FormField v-else v-model="typed" label="go ahead" name="confirm" class="w-56">
          <template #label
            >Type <b>{{ name }}</b> to go ahead</template
          >
        </FormField>
        <AppButton main submit :busy="busy || !meant || !!lacks">{{ deed }}</AppButton>
      </div>
    </AppForm>
  </div>
</template>
