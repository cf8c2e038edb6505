<script setup lang="ts">
import { reactive, ref } from 'vue'
import { patch, query, type Version } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// A version's name and marks, and how they are changed.
const props = defineProps<{ version: Version; can: boolean }>()
const open = ref(false)
const form = reactive({ name: '', note: '', pin: false, baseline: false })
const { busy, trouble, attempt } = useAttempt()
function fill() {
  const v = props.version
  Object.assign(form, { name: v.name ?? '', note: v.note ?? '', pin: v.pinned, baseline: v.baseline })
  open.value = true
}
const send = () =>
  attempt(async () => {
    await patch('/version' + query({ ref: props.version.ref }), form)
    open.value = false
  })
</script>

<template>
  <span class="inline-flex flex-wrap items-center gap-x-2">
    <span v-if="version.name" class="font-medium text-teal">{{ version.name }}</span>
    <span v-if="version.baseline" class="chip border-violet text-violet">baseline</span>
    <span v-if="version.pinned" class="chip">pinned</span>
    <span v-if="version.note" class="text-faded">{{ version.note }}</span>
    <button v-if="can" type="button" class="link" :aria-label="'mark version ' + version.number" @click="fill">mark</button>
    <ModalDialog v-if="open" :title="`Mark ${version.ref}`" @close="open = false">
      <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Keep" leaves @send="send" @leave="open = false">
        <FormField v-model.trim="form.name" label="Name" name="mark-name" :problem="problem('name')" />
        <FormField v-model="form.note" label="Note" name="mark-note" />
        <FormField v-model="form.pin" type="check" label="Pin: keep it whatever happens" name="mark-pin" />
        <FormField v-model="form.baseline" type="check" label="Baseline: drift is judged against it" name="mark-baseline" />
      </AppForm>
    </ModalDialog>
  </span>
</template>
