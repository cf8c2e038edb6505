<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, query, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useSession } from '../session'
import HitList from './HitList.vue'
import PastList from './PastList.vue'
import SavedSearches from './SavedSearches.vue'

// Lines that have a text, or blocks that lack one, in what runs now. What is looked for stands in the
// address, so that a search can be linked to.
type Found = Schemas['Found']
const route = useRoute()
const router = useRouter()
const session = useSession()
const word = (name: string) => String(route.query[name] ?? '')
const is = (name: string) => route.query[name] === 'true'
const asked = computed(() => ({
  line: word('line'),
  in: word('in'),
  lacks: word('lacks'),
  selector: word('selector'),
  regexp: is('regexp'),
  all_parts: is('all_parts'),
  secrets: is('secrets'),
  history: is('history'),
}))
const typed = ref({ ...asked.value })
const empty = computed(() => !asked.value.line && !asked.value.in)
const found = ref<Found[]>([])
const page = ref<Schemas['SearchPage']>()
const past = ref<Schemas['Past'][]>([])
const pastPage = ref<Schemas['PastPage']>()
const { busy, trouble, attempt } = useAttempt()

function more(cursor?: string) {
  const { selector, regexp, all_parts, secrets, history, ...words } = asked.value
  const flags = { regexp: regexp || undefined, all_parts: all_parts || undefined, secrets: secrets || undefined }
  if (history) return inHistory({ ...words, ...flags, selector }, cursor)
  const of = asked.value
  return attempt(async () => {
    const got = await get<Schemas['SearchPage']>('/search' + query({ ...words, ...flags, selector, cursor, since: true, limit: 100 }))
    if (asked.value !== of) return // something else was asked for meanwhile
    found.value = cursor ? [...found.value, ...got.items] : got.items
    page.value = got
  })
}
// All versions are read a few seconds at a time: until there is something to show, or all was read.
function inHistory(words: Record<string, string | boolean | undefined>, cursor?: string) {
  const of = asked.value
  return attempt(async () => {
    let got: Schemas['PastPage']
    let [parts, versions] = cursor ? [pastPage.value!.parts, pastPage.value!.versions] : [0, 0]
    do {
      got = await get<Schemas['PastPage']>('/history-search' + query({ ...words, cursor }))
      if (asked.value !== of) return
      parts += got.parts
      versions += got.versions
      past.value = [...past.value, ...got.items]
      pastPage.value = { ...got, parts, versions }
      cursor = got.next
    } while (got.next && !got.items.length)
  })
}
watch(
  asked,
  () => {
    typed.value = { ...asked.value }
    page.value = pastPage.value = undefined
    found.value = past.value = []
    if (!empty.value) void more()
  },
  { immediate: true },
)
function go() {
  const q: Record<string, string> = { tab: 'lines' }
  for (const [k, v] of Object.entries(typed.value)) {
    const text = typeof v === 'string' ? v.trim() : v ? 'true' : ''
    if (text) q[k] = text
  }
  void router.push({ query: q })
}
const devices = computed(() => new Set(found.value.map((f) => f.device)).size)
const said = computed(() => {
  const p = page.value
  if (!p) return ''
  const count = (n: number, one: string) => (n === 1 ? `1 ${one}` : `${n} ${one}s`)
  const hits = `${p.next ? 'the first ' : ''}${count(found.value.length, 'hit')} on ${count(devices.value, 'device')}`
  const rest = p.unread ? `; ${p.unread} that are no text were not` : ''
  return `${hits}; ${count(p.texts, 'text')} searched${rest}`
})
</script>

<template>
  <AppForm class="card mb-3 grid gap-2 p-3" @send="go">
    <div class="grid gap-2 sm:grid-cols-2 lg:grid-cols-4">
      <FormField v-model="typed.line" label="Lines with" name="line" mono placeholder="192.0.2.5" />
      <FormField v-model="typed.in" label="in blocks that begin with" name="in" mono placeholder="lane" />
      <FormField v-model="typed.lacks" label="or blocks without a line with" name="lacks" mono placeholder="sieve" />
      <FormField v-model="typed.selector" label="on" name="selector" placeholder="all, or site=skerrinsay kind=router" />
    </div>
    <div class="flex flex-wrap items-center gap-x-5 gap-y-1">
      <AppButton main submit :busy="busy">Search</AppButton>
      <FormField v-model="typed.regexp" type="check" label="expressions (RE2)" name="regexp" />
      <FormField v-model="typed.all_parts" type="check" label="startup, too" name="all_parts" />
      <FormField v-model="typed.history" type="check" label="in all versions" name="history" />
      <FormField
        v-if="session.me?.secrets"
        v-model="typed.secrets"
        type="check"
        label="with secrets, which is written down"
        name="secrets"
      />
      <span class="grow"></span>
      <SavedSearches :words="asked" :can="!empty" />
    </div>
  </AppForm>
  <ProblemNote :error="trouble" class="mb-2" />
  <EmptyNote v-if="empty" title="Say what to look for">
    Text as it stands, or expressions. Blocks that lack a line are found by their beginning and what they lack: in blocks
    <code>lane</code>, without <code>sieve</code>.
  </EmptyNote>
  <template v-else-if="pastPage">
    <p class="mb-2 text-faded" role="status">
      {{ past.length || 'Nothing' }} found in {{ pastPage.versions }} versions of {{ pastPage.parts }} parts{{
        pastPage.next ? ' so far' : ''
      }}.
    </p>
    <PastList :found="past" />
    <AppButton v-if="pastPage.next" class="mt-2" :busy="busy" @click="more(pastPage.next)">Go on</AppButton>
  </template>
  <template v-else-if="page">
    <p class="mb-2 text-faded" role="status">{{ found.length ? said : `Nothing was found in ${page.texts} texts.` }}</p>
    <HitList :found="found" :mark="asked.regexp ? '' : asked.line" />
    <AppButton v-if="page.next" class="mt-2" :busy="busy" @click="more(page.next)">More</AppButton>
  </template>
</template>
