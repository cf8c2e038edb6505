<script setup lang="ts">
import { reactive } from 'vue'
import { call, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { ended } from '../composables/job'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import { says } from './rule'

// Makes a rule for lines, or changes one; its devices are judged anew.
const props = defineProps<{ rule?: Schemas['Rule'] }>()
const emit = defineEmits<{ close: []; kept: [name: string] }>()
const r = props.rule
const form = reactive({
  name: r?.name ?? '',
  kind: r?.kind ?? 'required',
  path: r?.path ?? '',
  text: '',
  selector: r?.selector.join(' ') ?? '',
  dialect: r?.dialect ?? '',
  note: r?.note ?? '',
})
const fills =
  "As the devices show them, in their blocks. {{name}}, {{site}}, {{address}} and any field of a device's entry stand for its own value."
const kinds = Object.entries(says).map(([value, label]) => ({ value, label: 'Lines ' + label }))
const { busy, trouble, attempt } = useAttempt()
const send = () =>
  attempt(async () => {
    const { name, selector, path: line, text, ...rest } = form
    const body = { ...rest, ...(form.kind === 'template' ? { text } : { path: line }) }
    const path = '/rules/' + encodeURIComponent(name)
    const kept = await call<Schemas['Rule']>('PUT', path, { ...body, selector: selector.split(/\s+/).filter(Boolean) })
    if (kept.job) await ended(kept.job)
    emit('kept', name)
  })
</script>

<template>
  <ModalDialog :title="rule ? `Change ${rule.name}` : 'A rule for lines'" @close="emit('close')">
    <AppForm
      v-slot="{ problem }"
      :busy="busy"
      :trouble="trouble"
      deed="Keep"
      leaves
      :unable="!form.name || !(form.kind === 'template' ? form.text : form.path) || !form.selector"
      @send="send"
      @leave="emit('close')"
    >
      <FormField v-if="!rule" v-model.trim="form.name" label="Name" name="rule-name" :problem="problem('name')" required />
      <FormField v-model="form.kind" type="select" label="Says" name="rule-kind" :options="kinds" />
      <FormField
        v-if="form.kind === 'template'"
        v-model="form.text"
        type="area"
        label="The lines"
        name="rule-text"
        mono
        :rows="10"
        placeholder="course 0.0.0.0/0 via {{gateway}}"
        :hint="fills"
        :problem="problem('text')"
        required
      />
      <FormField
        v-else
        v-model="form.path"
        label="On the path"
        name="rule-path"
        mono
        placeholder="lane {name} / guard strict"
        hint="Blocks from the outermost inwards, then the line. {name} stands for one word, {rest...} for all that are left."
        :problem="problem('path')"
        required
      />
      <FormField
        v-model="form.selector"
        label="Of the devices"
        name="rule-of"
        placeholder="kind=router"
        :problem="problem('selector')"
        required
      />
      <FormField
        v-model="form.dialect"
        label="In the words of the dialect"
        name="rule-dialect"
        hint="Where the devices have one, it is that."
      />
      <FormField v-model="form.note" label="Why" name="rule-note" />
    </AppForm>
  </ModalDialog>
</template>
