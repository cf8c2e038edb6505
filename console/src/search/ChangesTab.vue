<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, query, type Schemas } from '../api/call'
import { when } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import ChangeStack from './ChangeStack.vue'

// What changed on all devices in a span of time, where, and by whom: what hit several alike is one.
type Together = Schemas['Together']
const route = useRoute()
const router = useRouter()
const since = computed(() => String(route.query.since ?? '-1d'))
const until = computed(() => String(route.query.until ?? ''))
const of = computed(() => String(route.query.selector ?? ''))
const typed = ref({ since: since.value, until: until.value, selector: of.value })
const { data, error, isLoading } = useQuery({
  key: () => ['changes', since.value, until.value, of.value],
  query: () => get<Schemas['TogetherPage']>('/fleet-changes' + query({ since: since.value, until: until.value, selector: of.value })),
})
const go = () => void router.push({ query: { tab: 'changes', ...Object.fromEntries(Object.entries(typed.value).filter(([, v]) => v)) } })
const title = (t: Together) => (t.devices > 1 ? `${t.devices} devices alike` : t.versions[0].device)
const few = 12
const sections = ref<HTMLElement[]>()
const before = (v: Schemas['Version']) => v.ref.replace(/@\d+$/, '@' + (v.number - 1))
</script>

<template>
  <AppForm class="card mb-3 p-3" @send="go">
    <div class="flex flex-wrap items-end gap-2">
      <FormField v-model="typed.since" label="Since" name="since" placeholder="-1d, yesterday, 2026-11-20" required />
      <FormField v-model="typed.until" label="until" name="until" placeholder="now" />
      <FormField v-model="typed.selector" class="grow" label="on" name="selector" placeholder="all, or site=skerrinsay kind=router" />
      <AppButton main submit>Show</AppButton>
    </div>
  </AppForm>
  <ProblemNote :error="error" class="mb-2" />
  <p v-if="isLoading" class="text-faded" role="status">Looking…</p>
  <EmptyNote v-else-if="data && !data.items.length" title="Nothing changed">In that time, as far as devices were pulled.</EmptyNote>
  <ChangeStack v-if="data?.items.length" :changes="data.items" @go="(i) => sections?.[i]?.scrollIntoView({ block: 'start' })" />
  <section v-for="t in data?.items" :key="t.versions[0].id" ref="sections" class="card mb-2 overflow-hidden">
    <h2 class="flex flex-wrap items-baseline gap-x-3 border-b border-rule px-3 py-1.5 text-base">
      {{ title(t) }}
      <span class="text-sm font-normal text-faded"
        >{{ t.from === t.to ? when(t.to) : `${when(t.from)} to ${when(t.to)}`
        }}<template v-if="t.by.length">, by {{ t.by.join(', ') }}</template>
      </span>
      <span class="text-sm font-normal"
        ><span class="text-added-ink">+{{ t.added }}</span> <span class="text-gone-ink">−{{ t.removed }}</span></span
      >
    </h2>
    <p class="flex flex-wrap gap-x-3 px-3 py-1 text-sm">
      <RouterLink v-for="v in t.versions.slice(0, few)" :key="v.id" :to="`/compare?from=${before(v)}&to=${v.ref}`">{{ v.ref }}</RouterLink>
      <span v-if="t.versions.length > few" class="text-faded">and {{ t.versions.length - few }} more</span>
    </p>
    <p v-if="!t.lines.length" class="px-3 pb-2 text-faded">The first version, or no text.</p>
    <ul v-else class="pb-1">
      <li v-for="(l, i) in t.lines" :key="i">
        <p v-if="l.path && l.path !== t.lines[i - 1]?.path" class="px-3 text-sm text-faded">in {{ l.path }}</p>
        <code class="block px-3 break-words whitespace-pre-wrap" :class="l.came ? 'bg-added' : 'bg-gone'"
          ><span aria-hidden="true">{{ l.came ? '+' : '−' }}</span
          ><span class="sr-only">{{ l.came ? 'came:' : 'went:' }}</span
          >{{ l.text }}</code
        >
      </li>
      <li v-if="t.added + t.removed > t.lines.length" class="px-3 text-sm text-faded">
        and {{ t.added + t.removed - t.lines.length }} lines more
      </li>
    </ul>
  </section>
  <p v-if="data?.more" class="text-faded">And older ones: choose a shorter span.</p>
</template>
