<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { useIntervalFn } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { get, patch, post, query, type Device, type Job, type Version, listAll, type Page } from '../api/call'
import MarkVersion from '../components/MarkVersion.vue'
import RestoreTest from '../components/RestoreTest.vue'
import ProblemNote from '../components/ProblemNote.vue'
import StateMark from '../components/StateMark.vue'
import TenureRibbon from '../components/TenureRibbon.vue'
import { useAttempt } from '../composables/attempt'
import { ended } from '../composables/job'
import { ago, when, zone } from '../composables/time'
import { useSession } from '../session'

const props = defineProps<{ name: string }>()
const router = useRouter()
const session = useSession()
const operator = session.may('operator')
const at = computed(() => '/devices/' + encodeURIComponent(props.name))
const chosen = ref('')

const device = useQuery({ key: () => ['device', props.name], query: () => get<Device>(at.value) })
const parts = computed(() => device.data.value?.parts ?? ['running'])
const part = computed(() => chosen.value || parts.value[0])
const versions = useQuery({
  key: () => ['versions', props.name, part.value],
  query: () => listAll<Version>(at.value + '/versions' + query({ part: part.value, limit: 1000 })),
})
function again() {
  void device.refetch()
  void versions.refetch()
}
useIntervalFn(again, 6000)
const d = computed(() => device.data.value)
const list = computed(() => versions.data.value ?? [])

const picked = ref<number[]>([])
function pick(n: number) {
  picked.value = picked.value.includes(n) ? picked.value.filter((x) => x !== n) : [...picked.value, n].slice(-2)
}
function compare() {
  const [a, b] = [...picked.value].sort((x, y) => x - y)
  const p = '/' + part.value
  void router.push(`/compare?from=${props.name}${p}@${a}&to=${props.name}${p}@${b}`)
}

const address = ref('')
const elsewhere = () => void router.push({ path: '/push', query: { ref: props.name, to: props.name, at: address.value } })
const newUnit = () => void router.push({ path: '/push', query: { ref: props.name, to: props.name, at: address.value, swap: '1' } })

const said = ref('')
const { busy, trouble, attempt } = useAttempt()
async function pull() {
  await attempt(async () => {
    const { items: jobs } = await post<Page<Job>>('/pulls', { selector: [props.name] })
    const end = await ended(jobs[0].id)
    said.value = `${end.outcome}: ${end.summary}`
  })
  again()
}
async function retry() {
  if (await attempt(() => post(at.value + '/retry-login'))) await pull()
}
async function mark(v: Version, what: object) {
  await attempt(() => patch('/version' + query({ ref: v.ref }), what))
  again()
}
const standIn: Record<string, string> = { address: 'an address burnt into it', 'machine-id': 'its machine id', 'host-key': 'its host key' }
const facts = computed(() => {
  const x = d.value
  if (!x) return []
  return [
    ['kind', x.kind],
    ['site', x.site],
    ['tags', x.tags.join(', ')],
    ['dialect', x.dialect],
    ['address', `${x.address} port ${x.port}`],
    ['over', x.transport],
    ['through', x.jump],
    ['hangs on', x.parent],
    ['credential set', x.credential],
    ['user', x.user],
    ['expected serial', x.serials.join(' or ')],
    ['host name', x.host],
    ['model', x.model],
    ['serial', x.serial && x.serial + (x.stand_in ? ` (it has none; ${standIn[x.stand_in] ?? x.stand_in} stands in for it)` : '')],
    ['release', x.release],
    ['last pulled', x.last_pulled ? `${when(x.last_pulled)}, ${ago(x.last_pulled)}` : 'never'],
    ['last changed', when(x.last_changed)],
    ['last proven', x.last_proven ? `${when(x.last_proven)}, ${x.proven}` : 'never'],
    ['host key', x.host_key_fingerprint],
  ].filter(([, v]) => v) as [string, string][]
})
</script>

<template>
  <ProblemNote :error="device.error.value" />
  <template v-if="d">
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <h1>{{ d.name }}</h1>
      <StateMark :state="d.state" :word="d.state === 'unsaved' ? d.apart?.word : ''" :also="d.state === 'drifted' ? d.apart?.word : ''" />
      <span class="grow"></span>
      <template v-if="operator">
        <RouterLink v-if="d.latest && !d.member" class="button" :to="`/bootstrap-sheet?ref=${name}`">Bootstrap sheet</RouterLink>
        <button type="button" class="button" :disabled="busy" @click="pull">{{ busy ? 'Pulling…' : 'Pull now' }}</button>
        <RouterLink v-if="d.drifted" class="button" :to="`/compare?from=${name}@baseline&to=${name}@latest`">What drifted</RouterLink>
        <RouterLink v-if="d.apart" class="button" :to="`/compare?from=${name}/${d.apart.part}@latest&to=${name}/${d.apart.follows}@latest`"
          >What is {{ d.apart.word === 'unsaved' ? 'not saved' : d.apart.word }}</RouterLink
        >
        <RouterLink v-if="d.drifted" class="button-main" :to="`/push?ref=${name}@baseline`">Put the baseline back</RouterLink>
      </template>
    </div>
    <ProblemNote :error="trouble" class="mb-3" />
    <div v-if="d.trouble" role="alert" class="mb-3 rounded border border-alarm px-3 py-2">
      <p class="text-alarm font-medium">{{ d.trouble }}</p>
      <p v-if="operator && d.state === 'other hardware' && d.latest" class="mt-2">
        <RouterLink class="button-main" :to="`/push?ref=${name}&to=${name}&swap=1`">Swap: let this unit take its place</RouterLink>
      </p>
      <p v-if="operator && d.state === 'in factory state' && d.latest" class="mt-2">
        <RouterLink class="button-main" :to="`/push?ref=${name}`">Put the newest version back on it</RouterLink>
      </p>
      <form
        v-if="operator && d.latest && ['unreachable', 'other hardware', 'in factory state'].includes(d.state)"
        class="mt-2 flex flex-wrap items-end gap-2"
        @submit.prevent="elsewhere"
      >
        <label class="grid gap-1 text-faded"
          >Is its unit at another address for now, the maker's or on a bench?<input
            v-model="address"
            class="field"
            name="at"
            placeholder="192.0.2.1"
            autocomplete="off"
            spellcheck="false"
        /></label>
        <button type="submit" class="button" :disabled="!address">Put it back there</button>
        <button type="button" class="button" :disabled="!address" @click="newUnit">Swap it in there</button>
      </form>
      <p v-if="d.latched_since">
        Nothing tries this login there again until it is changed, or you say that it is right.
        <button v-if="operator" type="button" class="button ml-2" @click="retry">It is right, try again</button>
      </p>
    </div>
    <p v-if="said" role="status" class="mb-3">{{ said }}</p>
    <section class="card mb-4 p-3">
      <div class="mb-2 flex flex-wrap items-center gap-3">
        <h2>Tenure</h2>
        <span class="text-faded">each version as long as it was in force, as tall as its change; pick two to compare</span>
        <span class="grow"></span>
        <button type="button" class="button" :disabled="picked.length !== 2" @click="compare">
          Compare {{ picked.length === 2 ? [...picked].sort((a, b) => a - b).join(' and ') : 'two' }}
        </button>
      </div>
      <TenureRibbon :versions="list" :picked="picked" @pick="pick" />
      <div class="flex justify-between text-xs text-faded">
        <span>{{ when(list.at(-1)?.taken_at) }}</span><span>now</span>
      </div>
    </section>
    <div class="grid gap-4 xl:grid-cols-[1fr_20rem]">
      <section class="min-w-0">
        <div class="mb-2 flex flex-wrap items-center gap-2" role="tablist" aria-label="Parts">
          <h2 class="mr-2">Versions</h2>
          <button
            v-for="p in parts"
            :key="p"
            type="button"
            role="tab"
            class="button"
            :class="part === p ? 'border-teal! text-teal!' : ''"
            :aria-selected="part === p"
            @click="((chosen = p), (picked = []))"
          >
            {{ p }}
          </button>
        </div>
        <div class="card overflow-x-auto">
          <table class="w-full">
            <thead class="border-b border-rule bg-leaf">
              <tr>
                <th class="px-2 py-1.5"><span class="sr-only">pick</span></th>
                <th class="px-2">No.</th>
                <th class="px-2">Taken</th>
                <th class="hidden px-2 md:table-cell">Change</th>
                <th class="hidden px-2 sm:table-cell">Changed by</th>
                <th class="hidden px-2 lg:table-cell">Pulled</th>
                <th class="px-2">Name and marks</th>
                <th class="px-2"></th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="v in list" :key="v.id" class="border-b border-rule last:border-0 hover:bg-leaf">
                <td class="px-2 py-1">
                  <input
                    type="checkbox"
                    class="size-4 accent-violet"
                    :aria-label="'pick version ' + v.number"
                    :checked="picked.includes(v.number)"
                    @change="pick(v.number)"
                  />
                </td>
                <td class="px-2 font-semibold">{{ v.number }}</td>
                <td class="px-2 whitespace-nowrap">{{ when(v.taken_at) }}</td>
                <td class="hidden px-2 whitespace-nowrap md:table-cell">
                  <template v-if="v.lines === 0">{{ v.size }} bytes</template
                  ><template v-else-if="v.number > 1"
                    ><span class="text-added-ink">+{{ v.added }}</span> <span class="text-gone-ink">−{{ v.removed }}</span></template
                  >
                </td>
                <td class="hidden px-2 sm:table-cell">{{ v.author }}</td>
                <td class="hidden px-2 text-faded lg:table-cell">{{ v.reason }}</td>
                <td class="px-2">
                  <span v-if="v.aside" class="mr-2" :class="v.aside === 'edited' ? 'text-violet' : 'text-alarm'">{{
                    v.aside
                  }}</span><MarkVersion :version="v" :can="operator" @mark="(m) => mark(v, m)" />
                </td>
                <td class="px-2 text-right whitespace-nowrap">
                  <RouterLink
                    v-if="v.number > 1"
                    class="mr-3"
                    :to="`/compare?from=${v.ref.replace(/@\d+$/, '@' + (v.number - 1))}&to=${v.ref}`"
                    >what changed</RouterLink
                  >
                  <RouterLink v-if="operator && session.me?.secrets && v.lines > 0" class="mr-3" :to="`/edit?ref=${v.ref}`"
                    >edit</RouterLink
                  >
                  <RouterLink v-if="operator" :to="`/push?ref=${v.ref}`">{{ v.aside === 'edited' ? 'push' : 'put back' }}</RouterLink>
                </td>
              </tr>
            </tbody>
          </table>
          <p v-if="versions.data.value && !list.length" class="p-4 text-faded">No version of {{ part }} yet. Pull the device.</p>
        </div>
        <p class="mt-2 text-faded">Times are in {{ zone }}.</p>
      </section>
      <section class="min-w-0">
        <template v-if="parts.includes('startup')">
          <h2 class="mb-2">Running beside startup</h2>
          <p class="card mb-4 p-3">
            <template v-if="!d.latest">Nothing was pulled yet.</template>
            <template v-else-if="d.unsaved"
              ><StateMark state="unsaved" />: startup does not hold what runs; a restart would lose it.
              <RouterLink :to="`/compare?from=${name}/startup@latest&to=${name}@latest`">See both</RouterLink></template
            >
            <template v-else><StateMark state="steady" />: startup holds what runs.</template>
          </p>
        </template>
        <template v-if="d.children?.length">
          <h2 class="mb-2">Devices that hang on it</h2>
          <ul class="card mb-4 grid gap-1 p-3">
            <li v-for="k in d.children" :key="k.name" class="flex items-center justify-between gap-2">
              <RouterLink :to="'/devices/' + k.name">{{ k.name }}</RouterLink><StateMark :state="k.state" />
            </li>
          </ul>
        </template>
        <RestoreTest v-if="operator && d.latest && !d.member" :device="d" />
        <h2 class="mb-2">Entry and identity</h2>
        <dl class="card grid grid-cols-[auto_1fr] gap-x-3 gap-y-1 p-3">
          <template v-for="[k, v] in facts" :key="k"
            ><dt class="text-faded">{{ k }}</dt>
            <dd class="break-all">{{ v }}</dd></template
          >
        </dl>
      </section>
    </div>
  </template>
</template>
