<script setup lang="ts">
import { computed } from 'vue'
import AppButton from '../design/AppButton.vue'
import FormField from '../design/FormField.vue'
import { useKinds } from '../jobs/kinds'

// What a schedule does, one thing after the other. With each goes what its kind takes.
export interface DeedForm {
  kind: string
  with: Record<string, string>
}
const deeds = defineModel<DeedForm[]>({ required: true })
defineProps<{ problem?: string }>()
const { data } = useKinds()
const kinds = computed(() => (data.value ?? []).filter((k) => k.recurs))
const options = computed(() => kinds.value.map((k) => ({ value: k.name, label: `${k.name}: ${k.does.split(':')[0]}` })))
const takes = (kind: string) =>
  (kinds.value.find((k) => k.name === kind)?.takes ?? []).map((t) => ({ name: t.replace('!', ''), must: t.endsWith('!') }))
</script>

<template>
  <fieldset class="grid gap-2">
    <legend class="mb-1">What is done, one after the other</legend>
    <div v-for="(d, i) in deeds" :key="i" class="flex flex-wrap items-end gap-2">
      <FormField
        v-model="d.kind"
        bare
        :label="`deed ${i + 1}`"
        :name="'deed-' + i"
        type="select"
        :options="options"
        class="grow basis-52"
        :problem="i === 0 ? problem : undefined"
        @update:model-value="d.with = {}"
      />
      <FormField
        v-for="t in takes(d.kind)"
        :key="t.name"
        v-model.trim="d.with[t.name]"
        :label="t.name"
        :name="`deed-${i}-${t.name}`"
        :required="t.must"
        class="w-36"
      />
      <AppButton v-if="deeds.length > 1" small @click="deeds = deeds.filter((_, n) => n !== i)">Leave out</AppButton>
    </div>
    <div><AppButton small @click="deeds = [...deeds, { kind: 'drift', with: {} }]">And then…</AppButton></div>
  </fieldset>
</template>
