<script setup lang="ts">
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { useQuery } from '@pinia/colada'
import { computed, useId } from 'vue'
import { versionsOf } from '../api/call'
import { when } from '../composables/time'
import { useFleet } from '../fleet'

// A version's reference, completed as it is typed: the device, then which of its versions.
defineProps<{ label: string; placeholder?: string; name?: string }>()
const model = defineModel<string>({ required: true })
const fleet = useFleet()
const id = useId()
const device = computed(() => model.value.split(/[@/]/)[0])
const at = computed(() => (model.value.includes('@') ? model.value.slice(0, model.value.indexOf('@')) : ''))
const { data } = useQuery({
  key: () => ['part', device.value, at.value, 'offered'],
  query: () => versionsOf(device.value, at.value.split('/')[1]),
  enabled: () => !!at.value && fleet.byName.has(device.value),
})
const offers = computed(() => {
  if (!at.value) {
    const w = model.value.toLowerCase()
    return fleet.devices
      .filter((d) => d.name.toLowerCase().includes(w) && d.latest)
      .slice(0, 12)
      .map((d) => ({ value: d.name + '@', more: d.state }))
  }
  const which = model.value.slice(at.value.length + 1).toLowerCase()
  return [
    ...['latest', 'previous', 'baseline', 'live'].map((w) => ({ value: `${at.value}@${w}`, more: '' })),
    ...(data.value ?? []).map((v) => ({
      value: `${at.value}@${v.number}`,
      more: [v.name, when(v.taken_at), v.author].filter(Boolean).join(', '),
    })),
  ]
    .filter((o) => o.value.slice(at.value.length + 1).startsWith(which) || o.more.toLowerCase().includes(which))
    .slice(0, 30)
})
</script>

<template>
  <Combobox :model-value="model" nullable as="div" class="relative grid min-w-0 grow gap-1" @update:model-value="(v) => v && (model = v)">
    <label :for="id">{{ label }}</label>
    <ComboboxInput
      :id="id"
      class="field mono"
      :name="name"
      :placeholder="placeholder"
      required
      autocomplete="off"
      spellcheck="false"
      :display-value="() => model"
      @change="model = $event.target.value"
    />
    <ComboboxOptions v-if="offers.length" class="card absolute top-full z-30 mt-1 max-h-72 w-full min-w-72 overflow-auto py-1 shadow-lg">
      <ComboboxOption
        v-for="o in [{ value: model, more: 'as typed' }, ...offers].filter((x) => x.value)"
        :key="o.value + o.more"
        v-slot="{ active }"
        :value="o.value"
        as="template"
      >
        <li class="flex cursor-pointer gap-3 px-3 py-0.5" :class="active ? 'bg-marked' : ''">
          <span class="mono">{{ o.value }}</span><span class="truncate text-faded">{{ o.more }}</span>
        </li>
      </ComboboxOption>
    </ComboboxOptions>
  </Combobox>
</template>
