<script setup lang="ts">
import { computed, useId } from 'vue'

// One field of a form: its label, what is typed or chosen, what helps, what is wrong.
export interface Option {
  value: string
  label: string
  disabled?: boolean
}
const props = defineProps<{
  label: string
  name?: string
  type?: 'text' | 'password' | 'number' | 'datetime-local' | 'select' | 'area' | 'check' | 'file'
  options?: Option[]
  hint?: string
  problem?: string
  placeholder?: string
  required?: boolean
  mono?: boolean
  rows?: number
  min?: number
  max?: number
  list?: string // the id of what may be chosen from
  autocomplete?: string
  many?: boolean // more than one file
  bare?: boolean // the label is said, not shown
}>()
const model = defineModel<any>()
defineEmits<{ file: [files: FileList] }>()
const id = useId()
const described = computed(() => (props.hint || props.problem ? id + '-help' : undefined))
const common = computed(() => ({
  id,
  name: props.name,
  required: props.required,
  list: props.list,
  placeholder: props.placeholder,
  'aria-describedby': described.value,
  'aria-invalid': props.problem ? true : undefined,
  autocomplete: props.autocomplete ?? 'off',
  spellcheck: false,
}))
</script>

<template>
  <div class="min-w-0" :class="type === 'check' ? 'flex flex-wrap items-start gap-x-2' : 'grid content-start gap-1'">
    <input v-if="type === 'check'" :id="id" v-model="model" type="checkbox" class="check mt-1" :name="name" :aria-describedby="described" />
    <label :for="id" :class="bare ? 'sr-only' : type === 'check' ? 'min-h-6 min-w-6 grow basis-0 pt-0.5' : ''"
      ><slot name="label">{{ label }}</slot></label
    >
    <select v-if="type === 'select'" v-bind="common" v-model="model" class="field">
      <option v-for="o in options" :key="o.value" :value="o.value" :disabled="o.disabled">{{ o.label }}</option>
    </select>
    <textarea
      v-else-if="type === 'area'"
      v-bind="common"
      v-model="model"
      class="field"
      :class="mono ? 'mono whitespace-pre' : ''"
      :rows="rows ?? 3"
      :wrap="mono ? 'off' : undefined"
    ></textarea>
    <input
      v-else-if="type === 'file'"
      v-bind="common"
      type="file"
      :multiple="many"
      class="field"
      @change="$emit('file', ($event.target as HTMLInputElement).files!)"
    />
    <input v-else-if="type === 'number'" v-bind="common" v-model.number="model" type="number" class="field" :min="min" :max="max" />
    <input v-else-if="type !== 'check'" v-bind="common" v-model="model" :type="type ?? 'text'" class="field" :class="mono ? 'mono' : ''" />
    <p v-if="hint || problem" :id="id + '-help'" class="basis-full text-xs" :class="problem ? 'text-alarm' : 'text-faded'">
      {{ problem || hint }}
    </p>
  </div>
</template>
