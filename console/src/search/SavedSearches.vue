<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, listAll, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import { useSession } from '../session'

// Searches that are kept by a name, for everybody. One with secrets is not.
type Saved = Schemas['SavedSearch']
type Words = {
  line: string
  in: string
  lacks: string
  selector: string
  regexp: boolean
  all_parts: boolean
  history: boolean
  secrets: boolean
}
const props = defineProps<{ words: Words; can: boolean }>()
const router = useRouter()
const operator = useSession().may('operator')
const { data: saved, refetch } = useQuery({ key: ['deed', 'searches'], query: () => listAll<Saved>('/searches') })
const naming = ref(false)
const name = ref('')
const { busy, trouble, attempt } = useAttempt()
const path = (n: string) => '/searches/' + encodeURIComponent(n)
const keep = () =>
  attempt(async () => {
    const { selector, secrets: _, ...words } = props.words
    await call('PUT', path(name.value.trim()), { ...words, selector: selector.split(/\s+/).filter(Boolean) })
    naming.value = false
    name.value = ''
    await refetch()
  })
const forget = (s: Saved) => attempt(async () => (await call('DELETE', path(s.name)), await refetch()))
const flags = ['regexp', 'all_parts', 'history'] as const
const texts = ['line', 'in', 'lacks'] as const
const same = (s: Saved) =>
  texts.every((k) => (s[k] ?? '') === props.words[k]) &&
  flags.every((k) => !!s[k] === props.words[k]) &&
  (s.selector ?? []).join(' ') === props.words.selector.trim()
const here = computed(() => (props.can ? saved.value?.find(same) : undefined))
function go(s: Saved) {
  const q: Record<string, string> = { tab: 'lines' }
  for (const k of texts) if (s[k]) q[k] = s[k]!
  for (const k of flags) if (s[k]) q[k] = 'true'
  if (s.selector?.length) q.selector = s.selector.join(' ')
  void router.push({ query: q })
}
const deeds = computed<Deed[]>(() => (saved.value ?? []).map((s) => ({ label: s.name, run: () => go(s) })))
</script>

<template>
  <AppButton v-if="here && operator" :busy="busy" @click="forget(here)">Forget “{{ here.name }}”</AppButton>
  <AppButton v-else-if="can && operator && !words.secrets" @click="naming = true">Save it</AppButton>
  <ActionMenu v-if="deeds.length" label="Saved searches" :deeds="deeds" />
  <ModalDialog v-if="naming" title="Save this search" @close="naming = false">
    <AppForm
      v-slot="{ problem }"
      :busy="busy"
      :trouble="trouble"
      deed="Save"
      leaves
      :unable="!name.trim()"
      @send="keep"
      @leave="naming = false"
    >
      <FormField
        v-model="name"
        label="Name"
        name="search-name"
        :problem="problem('name')"
        required
        hint="Everybody who signs in finds it."
      />
    </AppForm>
  </ModalDialog>
</template>
