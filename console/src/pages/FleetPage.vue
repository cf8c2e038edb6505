<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { useIntervalFn } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, post, query, type Device, type Job, type Schemas, listAll, type Page } from '../api/call'
import AddDevice from '../components/AddDevice.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import { useAttempt } from '../composables/attempt'
import { ended } from '../composables/job'
import { useKeys } from '../composables/keys'
import { ago, when, zone } from '../composables/time'
import { useSession } from '../session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const operator = session.may('operator')
const admin = session.may('admin')

const typed = ref(String(route.query.select ?? ''))
const selector = computed(() => String(route.query.select ?? ''))
watch(selector, (s) => (typed.value = s))
// A selector's words are cut at blanks, so a blank within a state is any letter.
const only = (state: string) => 'state=' + state.replace(' ', '?')
const choose = (s: string) => void router.replace({ query: s ? { select: s } : {} })

const status = useQuery({ key: ['status'], query: () => get<Schemas['Status']>('/status') })
const devices = useQuery({
  key: () => ['devices', selector.value],
  query: () => listAll<Device>('/devices' + query({ selector: selector.value })),
})
function again() {
  void status.refetch()
  void devices.refetch()
}
useIntervalFn(again, 5000)

const order = computed(() => status.data.value?.order ?? [])
const rows = computed(() =>
  [...(devices.data.value ?? [])].sort(
    (a, b) => order.value.indexOf(a.state) - order.value.indexOf(b.state) || a.name.localeCompare(b.name),
  ),
)
const lately = computed(() =>
  (devices.data.value ?? [])
    .filter((d) => d.last_changed)
    .sort((a, b) => b.last_changed!.localeCompare(a.last_changed!))
    .slice(0, 8),
)

const pulling = ref<{ done: number; of: number; failed: string[] }>()
const { trouble, attempt } = useAttempt()
const pull = () =>
  attempt(async () => {
    const { items: jobs } = await post<Page<Job>>(
      '/pulls',
      { selector: (selector.value || 'name=*').split(/\s+/) },
      { 'Idempotency-Key': crypto.randomUUID() },
    )
    const p = (pulling.value = { done: 0, of: jobs.length, failed: [] as string[] })
    await Promise.all(
      jobs.map(async (j) => {
        const end = await ended(j.id)
        p.done++
        if (end.outcome !== 'done') p.failed.push(end.device)
        pulling.value = { ...p }
      }),
    )
    again()
  })

const restoring = ref(false)
const which = ref('')
const lookFirst = () =>
  attempt(async () => {
    // A time without a zone is one of the reader's own.
    const to = /^\d{4}-\d\d-\d\dT[\d:]+$/.test(which.value) ? new Date(which.value).toISOString() : which.value
    const j = await post<Job>(
      '/restore-previews',
      { selector: selector.value.split(/\s+/), which: to },
      { 'Idempotency-Key': crypto.randomUUID() },
    )
    void router.push('/jobs/' + j.id)
  })

const adding = ref(false)
const box = ref<HTMLInputElement>()
useKeys([
  { keys: '/', does: 'choose devices', run: () => box.value?.focus() },
  { keys: 'r', does: 'pull what is chosen', run: () => operator.value && void pull() },
])
const next = (d: Device) =>
  d.state === 'drifted'
    ? 'see what drifted'
    : d.state === 'unsaved'
      ? `see what is ${!d.apart || d.apart.word === 'unsaved' ? 'not saved' : d.apart.word}`
      : d.state === 'never pulled'
        ? 'pull it for the first time'
        : (d.trouble ?? '').replace(d.state + ': ', '')
</script>

<template>
  <p v-if="status.data.value?.as_of" class="mb-3 rounded border-2 border-alarm px-3 py-2" role="alert">
    <b class="text-alarm">The service's database is away.</b> What stands here was so {{ when(status.data.value.as_of) }}.
  </p>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <h1 class="mr-2">Fleet</h1>
    <button
      v-for="s in order.filter((x) => status.data.value?.states[x])"
      :key="s"
      type="button"
      class="button"
      :aria-pressed="selector === only(s)"
      @click="choose(selector === only(s) ? '' : only(s))"
    >
      {{ status.data.value?.states[s] }} <StateMark :state="s" />
    </button>
    <span class="grow"></span>
    <form class="flex min-w-0 grow gap-2 sm:grow-0" @submit.prevent="choose(typed.trim())">
      <label class="sr-only" for="selector">Choose devices</label>
      <input id="selector" ref="box" v-model="typed" class="field sm:w-72" placeholder="site=skerrinsay tag=edge name=*-r1" />
      <button class="button">Choose</button>
    </form>
    <button v-if="admin" type="button" class="button" @click="adding = true">Add a device</button>
    <button v-if="operator && selector" type="button" class="button" @click="restoring = !restoring">Put these back…</button>
    <button v-if="operator" type="button" class="button-main" :disabled="!!pulling && pulling.done < pulling.of" @click="pull">
      {{ selector ? 'Pull these' : 'Pull all' }}
    </button>
  </div>
  <form v-if="restoring && selector" class="card mb-3 flex flex-wrap items-end gap-3 p-3" @submit.prevent="lookFirst">
    <label class="grid grow gap-1"
      >To which version of each?
      <input
        v-model="which"
        class="field"
        name="which"
        placeholder="baseline, a name, or a time: 2026-11-16T09:00Z"
        autocomplete="off"
        spellcheck="false"
    /></label>
    <button class="button-main" :disabled="!which">See what it takes</button>
  </form>
  <div class="grid gap-4 xl:grid-cols-[1fr_14rem]">
    <section class="min-w-0">
      <ProblemNote :error="trouble ?? devices.error.value" class="mb-3" />
      <div v-if="pulling" class="mb-3" role="status">
        <progress class="h-2 w-full accent-violet" :max="pulling.of" :value="pulling.done" aria-label="Pulls done"></progress>
        <p class="text-faded">
          {{ pulling.done }} of {{ pulling.of }} pulled<template v-if="pulling.failed.length"
            >; without success: {{ pulling.failed.join(', ') }}</template
          >
        </p>
      </div>
      <div class="card overflow-x-auto">
        <table class="w-full">
          <thead class="border-b border-rule bg-leaf">
            <tr>
              <th class="px-3 py-1.5">State</th>
              <th class="px-3">Device</th>
              <th class="hidden px-3 md:table-cell">Site</th>
              <th class="hidden px-3 2xl:table-cell">Version</th>
              <th class="hidden px-3 md:table-cell">Changed</th>
              <th class="hidden px-3 whitespace-nowrap sm:table-cell">Last pulled</th>
              <th class="px-3">What is wrong, or what to do</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="d in rows" :key="d.id" class="border-b border-rule last:border-0 hover:bg-leaf">
              <td class="px-3 py-1.5">
                <StateMark
                  :state="d.state"
                  :word="d.state === 'unsaved' ? d.apart?.word : ''"
                  :also="d.state === 'drifted' ? d.apart?.word : ''"
                />
              </td>
              <td class="px-3">
                <RouterLink :to="'/devices/' + d.name" class="font-semibold whitespace-nowrap">{{ d.name }}</RouterLink>
              </td>
              <td class="hidden px-3 whitespace-nowrap md:table-cell">{{ d.site }}</td>
              <td class="hidden px-3 2xl:table-cell">{{ d.latest || '' }}</td>
              <td class="hidden px-3 whitespace-nowrap md:table-cell" :title="when(d.last_changed)">
                {{ d.last_changed ? ago(d.last_changed) : '' }}
              </td>
              <td class="hidden px-3 whitespace-nowrap sm:table-cell">{{ ago(d.last_pulled) }}</td>
              <td class="px-3">
                <RouterLink v-if="d.state === 'drifted'" :to="`/compare?from=${d.name}@baseline&to=${d.name}@latest`">{{
                  next(d)
                }}</RouterLink>
                <RouterLink
                  v-else-if="d.state === 'unsaved'"
                  :to="`/compare?from=${d.name}/${d.apart?.part ?? 'startup'}@latest&to=${d.name}/${d.apart?.follows ?? 'running'}@latest`"
                  >{{ next(d) }}</RouterLink
                >
                <template v-else>
                  {{ next(d) }}
                  <RouterLink
                    v-if="operator && d.latest && d.state === 'other hardware'"
                    class="whitespace-nowrap"
                    :to="`/push?ref=${d.name}&to=${d.name}&swap=1`"
                    >swap it in</RouterLink
                  >
                  <RouterLink
                    v-else-if="operator && d.latest && d.state === 'in factory state'"
                    class="whitespace-nowrap"
                    :to="`/push?ref=${d.name}`"
                    >put it back</RouterLink
                  >
                </template>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="devices.data.value && !rows.length" class="p-6 text-center text-faded">
          {{
            selector
              ? 'No device is chosen by this. Change the words above, or clear them.'
              : 'No devices yet. Add the first one; it is pulled at once.'
          }}
        </p>
      </div>
    </section>
    <aside class="min-w-0">
      <h2 class="mb-2">Changed lately</h2>
      <ul class="card divide-y divide-rule">
        <li v-for="d in lately" :key="d.id" class="flex justify-between gap-2 px-3 py-1.5">
          <RouterLink :to="`/compare?from=${d.name}@previous&to=${d.name}@latest`" class="truncate">{{ d.name }}</RouterLink>
          <span class="shrink-0 text-faded">{{ ago(d.last_changed) }}</span>
        </li>
        <li v-if="!lately.length" class="px-3 py-2 text-faded">Nothing was pulled yet.</li>
      </ul>
      <p class="mt-3 text-faded">Times are in {{ zone }}.</p>
    </aside>
    <AddDevice v-if="adding" :open="adding" @close="adding = false" @added="(n) => router.push('/devices/' + n)" />
  </div>
</template>
