<script setup lang="ts">
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { computed, ref, watch } from 'vue'
import type { Device } from '../api/call'
import { useKeys } from '../composables/keys'
import { keys, valuesOf, type Key } from '../selector'

// Which devices: plain words and selectors, completed as they are typed.
const props = defineProps<{ devices: Device[] }>()
const text = defineModel<string>({ required: true })
const typed = ref(text.value)
watch(text, (t) => t !== typed.value.trim() && (typed.value = t))
const input = ref<{ $el: HTMLInputElement }>()
useKeys([{ keys: '/', does: 'choose devices', run: () => input.value?.$el.focus() }])

const last = computed(() => /\S*$/.exec(typed.value)![0])
const offers = computed(() => {
  const [key, value] = last.value.split('=')
  if (value === undefined) return last.value ? keys.filter((k) => k.startsWith(key)).map((k) => k + '=') : []
  if (!keys.includes(key as Key)) return []
  const all = new Set<string>()
  for (const d of props.devices) for (const v of valuesOf(d, key as Key)) if (v && v.startsWith(value) && all.size < 200) all.add(v)
  return [...all].sort().map((v) => `${key}=${v}`)
})
function take(word: string | null) {
  if (word === null) return
  typed.value = typed.value.slice(0, typed.value.length - last.value.length) + word + (word.endsWith('=') || !word ? '' : ' ')
  apply()
  requestAnimationFrame(() => {
    const el = input.value?.$el
    if (el) el.value = typed.value
    el?.focus()
  })
}
const apply = () => (text.value = typed.value.trim())
function change(e: Event) {
  typed.value = (e.target as HTMLInputElement).value
  apply()
}
</script>

<template>
  <Combobox :model-value="last" nullable as="div" class="relative min-w-0 grow" @update:model-value="take">
    <ComboboxInput
      id="selector"
      ref="input"
      class="field"
      type="search"
      aria-label="Choose devices"
      placeholder="a word, or site=skerrinsay state=drifted name=*-r1"
      autocomplete="off"
      spellcheck="false"
      :display-value="() => typed"
      @change="change"
    />
    <ComboboxOptions v-if="offers.length" class="card absolute z-30 mt-1 max-h-72 w-full max-w-md overflow-auto py-1 shadow-lg">
      <ComboboxOption v-for="o in [last, ...offers]" :key="o" v-slot="{ active }" :value="o" as="template">
        <li class="cursor-pointer px-3 py-1" :class="active ? 'bg-marked' : ''">
          <span class="mono">{{ o }}</span><span v-if="o === last" class="text-faded">, as typed</span>
        </li>
      </ComboboxOption>
    </ComboboxOptions>
  </Combobox>
</template>
