<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppButton from '../design/AppButton.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import { computed } from 'vue'

// Searches that somebody keeps in this browser, by a name.
const props = defineProps<{ query: string; can: boolean }>()
const router = useRouter()
const KEY = 'searches'
type Saved = { name: string; to: string }
const read = (): Saved[] => {
  try {
    const all = JSON.parse(localStorage.getItem(KEY) ?? '[]')
    return Array.isArray(all) ? all.filter((s) => typeof s?.name === 'string' && String(s?.to).startsWith('/search')) : []
  } catch {
    return []
  }
}
const saved = ref(read())
const write = (all: Saved[]) => {
  saved.value = all
  localStorage.setItem(KEY, JSON.stringify(all))
}
const naming = ref(false)
const name = ref('')
function keep() {
  const n = name.value.trim()
  if (!n) return
  write([...saved.value.filter((s) => s.name !== n), { name: n, to: props.query }].sort((a, b) => a.name.localeCompare(b.name)))
  naming.value = false
  name.value = ''
}
const here = computed(() => saved.value.find((s) => s.to === props.query))
const deeds = computed<Deed[]>(() => saved.value.map((s) => ({ label: s.name, run: () => void router.push(s.to) })))
</script>

<template>
  <AppButton v-if="here" @click="write(saved.filter((s) => s !== here))">Forget “{{ here.name }}”</AppButton>
  <AppButton v-else-if="can" @click="naming = true">Save it</AppButton>
  <ActionMenu v-if="saved.length" label="Saved searches" :deeds="deeds" />
  <ModalDialog v-if="naming" title="Save this search" @close="naming = false">
    <form class="grid gap-3" @submit.prevent="keep">
      <FormField v-model="name" label="Name" name="search-name" required hint="It is kept in this browser." />
      <div class="flex justify-end gap-2">
        <AppButton @click="naming = false">Leave it</AppButton>
        <AppButton main submit>Save</AppButton>
      </div>
    </form>
  </ModalDialog>
</template>
