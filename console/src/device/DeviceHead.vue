<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Device, type Job, type Page } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { ended } from '../composables/job'
import { useKeys } from '../composables/keys'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AgeBar from '../design/AgeBar.vue'
import AppButton from '../design/AppButton.vue'
import ProblemNote from '../design/ProblemNote.vue'
import DeviceState from '../fleet/DeviceState.vue'
import { notSaved, toDrift, toUnsaved } from '../fleet/wanted'
import { useSession } from '../session'
import ChangedByHand from './ChangedByHand.vue'
import PullNamed from './PullNamed.vue'
import RemoveDevice from './RemoveDevice.vue'
import DeviceEntry from './DeviceEntry.vue'

// What it is, how it is, what should be done.
const props = defineProps<{ device: Device }>()
const emit = defineEmits<{ test: []; retry: [] }>()
const router = useRouter()
const session = useSession()
const operator = session.may('operator')
const admin = session.may('admin')
const changing = ref(false)
const removing = ref(false)
const saying = ref(false)
const naming = ref(false)
const changed = (to: Device) => {
  changing.value = false
  if (to.name !== d.value.name) void router.replace('/devices/' + to.name)
}
const d = computed(() => props.device)
const said = ref('')
const { busy, trouble, attempt } = useAttempt()
const follow = (begun: () => Promise<Job[]>) =>
  attempt(async () => {
    said.value = ''
    const end = await ended((await begun())[0].id)
    said.value = `${end.outcome}: ${end.summary}`
  })
const pull = () => follow(async () => (await post<Page<Job>>('/pulls', { selector: [d.value.name] })).items)
const named = (jobs: Job[]) => {
  naming.value = false
  void follow(async () => jobs)
}
defineExpose({ pull })
useKeys([{ keys: 'r', does: 'pull this device', run: () => operator.value && void pull() }])
const is = computed(() =>
  [
    [d.value.kind, d.value.model].filter(Boolean).join(' '),
    d.value.release && 'release ' + d.value.release,
    d.value.site && 'at ' + d.value.site,
  ]
    .filter(Boolean)
    .join(', '),
)
const deeds = computed<Deed[]>(() => {
  const n = d.value.name
  const put: Deed[] = d.value.latest
    ? [
        { label: 'Put a version back…', to: `/push?to=${n}` },
        { label: 'Compare with what runs there now', to: `/compare?from=${n}@latest&to=${n}@live` },
      ]
    : []
  if (d.value.latest && !d.value.member)
    put.push({ label: 'Make a restore test…', run: () => emit('test') }, { label: 'Bootstrap sheet', to: `/bootstrap-sheet?ref=${n}` })
  put.push({ label: 'Pull and name it…', run: () => (naming.value = true) })
  put.push({ label: 'Somebody changed it…', run: () => (saying.value = true) })
  if (admin.value) put.push({ label: 'Change what is registered…', run: () => (changing.value = true) })
  if (admin.value) put.push({ label: 'Remove it…', run: () => (removing.value = true) })
  put.push({ label: 'Who did what to it', run: () => router.push({ path: '/settings', query: { tab: 'audit', about: n } }) })
  return put
})
</script>

<template>
  <DeviceEntry v-if="changing" :device="d" @close="changing = false" @changed="changed" />
  <RemoveDevice v-if="removing" :device="d" @close="removing = false" @removed="router.replace('/')" />
  <PullNamed v-if="naming" :selector="[d.name]" :whom="d.name" @close="naming = false" @begun="named" />
  <ChangedByHand v-if="saying" :device="d" @close="saying = false" @said="((saying = false), (said = 'It is pulled once it is quiet.'))" />
  <div class="mb-2 flex flex-wrap items-center gap-x-3 gap-y-1">
    <h1>{{ d.name }}</h1>
    <span class="text-base"><DeviceState :device="d" /></span>
    <span class="text-faded">{{ is }}</span>
    <span class="grow"></span>
    <template v-if="operator">
      <AppButton v-if="d.drifted" main :to="`/push?ref=${d.name}@baseline`">Put the baseline back</AppButton>
      <AppButton v-if="d.drifted" :to="toDrift(d)">What drifted</AppButton>
      <AppButton v-if="d.apart" :to="toUnsaved(d)">What is {{ notSaved(d) }}</AppButton>
      <AppButton :main="!d.drifted" :busy="busy" @click="pull">{{ busy ? 'Pulling…' : 'Pull now' }}</AppButton>
      <ActionMenu label="More" :deeds="deeds" />
    </template>
  </div>
  <div class="mb-2 flex flex-wrap items-start gap-x-6 gap-y-1">
    <span class="flex gap-2"><span class="text-faded">pulled</span><AgeBar :at="d.last_pulled" :days="2" /></span>
    <span class="flex gap-2"><span class="text-faded">changed</span><AgeBar :at="d.last_changed" :days="30" /></span>
    <span class="flex gap-2"><span class="text-faded">proven</span><AgeBar :at="d.last_proven" :days="90" /></span>
    <span class="text-faded">{{ d.address }} port {{ d.port }}</span>
    <span v-if="d.parent" class="text-faded"
      >hangs on <RouterLink :to="'/devices/' + d.parent">{{ d.parent }}</RouterLink></span
    >
    <RouterLink v-if="d.children?.length" :to="{ query: { tab: 'identity' } }">{{ d.children.length }} hang on it</RouterLink>
  </div>
  <ProblemNote :error="trouble" class="mb-2" />
  <p v-if="said" role="status" class="mb-2">{{ said }}</p>
</template>
