<script setup lang="ts">
import { watchDebounced } from '@vueuse/core'
import { computed, ref } from 'vue'
import { call, get, query, type Dialect, type Page, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useSession } from '../session'
import LearnDialect from './LearnDialect.vue'
import DialectTrial from './DialectTrial.vue'

// A dialect file: what is wrong in it is said at its line as it is typed; it is tried on
// a device before it is loaded.
type Problem = Schemas['DialectProblem']
const props = defineProps<{ name: string }>()
const emit = defineEmits<{ close: []; loaded: [name: string] }>()
const session = useSession()
const operator = session.may('operator')
const admin = session.may('admin')
const source = ref('')
const was = ref('')
const file = computed(() => (props.name === 'new' ? 'new.yaml' : props.name + '.yaml'))
const problems = ref<Problem[]>()
const said = ref('')
const area = ref<HTMLElement>()
const trying = ref(false)
const loaded = ref<Dialect>() // the one in use
const learning = ref(false)
const { busy, trouble, attempt } = useAttempt()
if (props.name !== 'new')
  void attempt(async () => {
    loaded.value = await get<Dialect>('/dialects/' + encodeURIComponent(props.name))
    source.value = was.value = loaded.value.source ?? ''
  })
const yaml = { 'Content-Type': 'application/yaml' }
const check = () =>
  attempt(async () => {
    const page = await call<Page<Problem>>('POST', '/dialect-check' + query({ name: file.value }), source.value, yaml)
    problems.value = page.items
  })
watchDebounced(source, (s) => operator.value && s.trim() && s !== was.value && void check(), { debounce: 500 })
const wrong = computed(() => (problems.value ?? []).filter((p) => !p.warning))
const load = () =>
  attempt(async () => {
    const d = await call<Dialect>('POST', '/dialects' + query({ name: file.value }), source.value, yaml)
    was.value = source.value
    said.value = `Revision ${d.revision} of ${d.name} is in use, on every instance.`
    if (props.name === 'new') emit('loaded', d.name)
  })
function goTo(p: Problem) {
  const el = area.value?.querySelector('textarea')
  if (!el) return
  const from =
    source.value
      .split('\n')
      .slice(0, p.line - 1)
      .join('\n').length + (p.line > 1 ? 1 : 0)
  el.focus()
  el.setSelectionRange(from, from + (source.value.split('\n')[p.line - 1]?.length ?? 0))
  el.scrollTop = Math.max(0, (p.line - 6) * 20)
}
const pick = (files: FileList) => attempt(async () => void (source.value = (await files[0]?.text()) ?? source.value))
</script>

<template>
  <div class="mb-2 flex flex-wrap items-center gap-2">
    <h2 class="text-base">{{ name === 'new' ? 'A dialect file' : name }}</h2>
    <span class="grow"></span>
    <FormField v-if="operator" bare label="Read it from a file" type="file" class="w-60" @file="pick" />
    <AppButton v-if="operator" :busy="busy || !source.trim()" @click="check">Check</AppButton>
    <AppButton v-if="admin && loaded" @click="learning = true">Draft its rules…</AppButton>
    <AppButton v-if="admin" :busy="!source.trim()" @click="trying = true">Try it on a device…</AppButton>
    <AppButton v-if="admin" main :busy="busy || !source.trim() || source === was || wrong.length > 0" @click="load">Load it</AppButton>
    <AppButton @click="emit('close')">Close</AppButton>
  </div>
  <p v-if="said" role="status" class="mb-2 text-teal">{{ said }}</p>
  <ProblemNote :error="trouble" class="mb-2" />
  <div class="grid gap-3 lg:grid-cols-[minmax(0,1fr)_22rem]">
    <div ref="area">
      <FormField v-model="source" bare label="The dialect file" name="dialect-source" type="area" mono :rows="28" class="tall-field" />
    </div>
    <section aria-label="What is wrong in it">
      <p v-if="!problems" class="text-faded">What is wrong in it is said here as you type.</p>
      <p v-else-if="!problems.length" class="text-teal" role="status">● Nothing is wrong in it.</p>
      <ul v-else class="card divide-y divide-rule" role="status">
        <li v-for="(p, i) in problems" :key="i" class="px-3 py-1.5">
          <button type="button" class="link" @click="goTo(p)">line {{ p.line }}</button>
          <span class="text-faded">{{ p.path ? ', in ' + p.path : '' }}</span>
          <p :class="p.warning ? 'text-gone-ink' : 'text-alarm'">{{ p.warning ? 'Note: ' : '' }}{{ p.text }}</p>
        </li>
      </ul>
    </section>
  </div>
  <LearnDialect v-if="learning && loaded" :dialect="loaded" @close="learning = false" />
  <DialectTrial v-if="trying" :source="source" @close="trying = false" />
</template>
