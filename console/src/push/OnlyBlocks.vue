<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Preview } from '../api/call'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'

// Previews only some blocks of a version.
const props = defineProps<{ preview: Preview }>()
const router = useRouter()
const blocks = ref('')
const go = () =>
  void router.push({ path: '/push', query: { ref: props.preview.target.split(',')[0], to: props.preview.device, only: blocks.value } })
</script>

<template>
  <details class="card p-3">
    <summary class="cursor-pointer font-semibold">Only some blocks of it</summary>
    <AppForm class="mt-2" deed="Preview only these" :unable="!blocks.trim()" @send="go">
      <FormField
        v-model="blocks"
        label="One a line, by their lines or how those begin"
        name="only"
        type="area"
        mono
        placeholder="lane quay1&#10;flock 7 / neighbour 10.0.0.1"
      />
    </AppForm>
  </details>
</template>
