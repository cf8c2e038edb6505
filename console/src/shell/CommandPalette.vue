<script setup lang="ts">
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { watchDebounced } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { allKeys } from '../composables/keys'
import ModalDialog from '../design/ModalDialog.vue'
import { useFleet } from '../fleet'
import { useSession } from '../session'
import { best, recent, remember, seek, type Found } from './find'

// Finds any device, version, job, page or deed by a few letters, and goes there.
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const fleet = useFleet()
const session = useSession()
const words = ref('')
const far = ref<Found[]>([]) // what had to be asked for
watchDebounced(words, async (w) => (far.value = await seek(w, fleet.byName)), { debounce: 120 })

const deeds = computed<Found[]>(() =>
  allKeys()
    .filter((k) => k.keys !== 'Ctrl k')
    .map((k) => ({ kind: 'key', label: k.does, more: k.keys, run: k.run })),
)
const found = computed(() =>
  !words.value.trim()
    ? recent()
    : words.value.includes('@')
      ? far.value
      : [...best(words.value, fleet.devices, session.me?.role ?? '', deeds.value), ...far.value].slice(0, 40),
)
function go(f: Found | null) {
  if (!f) return
  emit('close')
  remember(f)
  if (f.run) setTimeout(f.run)
  else if (f.to) void router.push(f.to)
}
</script>

<template>
  <ModalDialog title="Find anything" wide @close="emit('close')">
    <Combobox nullable @update:model-value="go">
      <ComboboxInput
        class="field"
        aria-label="A few letters of a device, version, job, page or deed"
        placeholder="a device, device@version, a job, a page, a deed…"
        autocomplete="off"
        spellcheck="false"
        @change="words = $event.target.value"
        @keydown.esc="emit('close')"
      />
      <ComboboxOptions static class="max-h-[60dvh] overflow-auto" hold>
        <ComboboxOption v-for="(f, i) in found" :key="f.kind + f.label + i" v-slot="{ active }" :value="f" as="template">
          <li class="flex cursor-pointer items-baseline gap-3 rounded px-2 py-1" :class="active ? 'bg-marked' : ''">
            <span class="w-16 shrink-0 text-xs text-faded">{{ f.kind }}</span>
            <span class="min-w-0 grow truncate">{{ f.label }}</span>
            <span class="min-w-0 truncate text-faded">{{ f.more }}</span>
          </li>
        </ComboboxOption>
        <li v-if="!found.length" class="px-2 py-1 text-faded">
          {{ words.trim() ? 'Nothing is called that.' : 'What you were at lately will stand here.' }}
        </li>
      </ComboboxOptions>
    </Combobox>
  </ModalDialog>
</template>
