<script setup lang="ts">
import { computed, ref } from 'vue'
import { post, type Device, type Page } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// Puts tags on devices, or takes them off.
const props = defineProps<{ selector: string[]; whom: string; devices: Device[] }>()
const emit = defineEmits<{ close: [] }>()
const add = ref('')
const drop = ref('')
const { busy, trouble, attempt } = useAttempt()
const words = (s: string) => s.split(/[\s,]+/).filter(Boolean)
const had = computed(() => [...new Set(props.devices.flatMap((d) => d.tags))].sort().join(', '))
const send = () =>
  attempt(async () => {
    await post<Page<Device>>('/tags', { selector: props.selector, add: words(add.value), drop: words(drop.value) })
    emit('close')
  })
</script>

<template>
  <ModalDialog :title="`Tag ${whom}`" @close="emit('close')">
    <AppForm
      :busy="busy"
      :trouble="trouble"
      deed="Tag them"
      leaves
      :unable="!add.trim() && !drop.trim()"
      @send="send"
      @leave="emit('close')"
    >
      <FormField v-model="add" label="Put on" name="add" placeholder="storm-watch" :hint="had ? 'there are: ' + had : ''" />
      <FormField v-model="drop" label="Take off" name="drop" />
    </AppForm>
  </ModalDialog>
</template>
