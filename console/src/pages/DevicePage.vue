<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { get, listAll, query, type Device, type Job, type Page, type Schemas, versionsOf } from '../api/call'
import { useKeys } from '../composables/keys'
import AppButton from '../design/AppButton.vue'
import ChoiceBar from '../design/ChoiceBar.vue'
import EmptyNote from '../design/EmptyNote.vue'
import ModalDialog from '../design/ModalDialog.vue'
import ProblemNote from '../design/ProblemNote.vue'
import TabBar from '../design/TabBar.vue'
import DeviceFacts from '../device/DeviceFacts.vue'
import DeviceHead from '../device/DeviceHead.vue'
import DeviceTrouble from '../device/DeviceTrouble.vue'
import DoingNow from '../device/DoingNow.vue'
import LastChecks from '../device/LastChecks.vue'
import RestoreTest from '../device/RestoreTest.vue'
import TimelineChart from '../device/TimelineChart.vue'
import VersionTable from '../device/VersionTable.vue'
import JobTable from '../jobs/JobTable.vue'
import CompareView from '../version/CompareView.vue'
import VersionText from '../version/VersionText.vue'

// One device: how it is, what it ran and runs, and what was done to it.
const props = defineProps<{ name: string }>()
const router = useRouter()
const at = computed(() => '/devices/' + encodeURIComponent(props.name))
const { data: d, error } = useQuery({ key: () => ['device', props.name], query: () => get<Device>(at.value) })
const parts = computed(() => d.value?.parts ?? ['running'])
const chosen = ref('')
const part = computed({ get: () => chosen.value || parts.value[0], set: (p) => ((chosen.value = p), (picked.value = [])) })
const { data: versions } = useQuery({
  key: () => ['part', props.name, part.value],
  query: () => versionsOf(props.name, part.value),
})
const { data: jobs } = useQuery({
  key: () => ['jobs', 'of', props.name],
  query: () => get<Page<Job>>('/jobs' + query({ device: props.name, limit: 300 })),
})
const { data: swaps } = useQuery({
  key: () => ['device', props.name, 'swaps'],
  query: () => listAll<Schemas['Swap']>(at.value + '/swaps'),
})
const list = computed(() => versions.value ?? [])
const newest = computed(() => list.value.find((v) => !v.excluded))
const baseline = computed(() => list.value.find((v) => v.baseline))

const picked = ref<number[]>([])
const pick = (n: number) => (picked.value = picked.value.includes(n) ? picked.value.filter((x) => x !== n) : [...picked.value, n].slice(-2))
const ref_ = (n: number) => `${props.name}/${part.value}@${n}`
const compare = (a: number, b: number) => void router.push(`/compare?from=${ref_(Math.min(a, b))}&to=${ref_(Math.max(a, b))}`)
const both = computed(() => [...picked.value].sort((a, b) => a - b))
useKeys([
  { keys: 'c', does: 'compare the two picked versions', run: () => picked.value.length === 2 && compare(picked.value[0], picked.value[1]) },
])

const head = ref<InstanceType<typeof DeviceHead>>()
const testing = ref(false)
const tabs = computed(() => [
  { name: 'versions', label: 'Versions', count: list.value.length },
  { name: 'text', label: 'Text' },
  { name: 'comparison', label: 'Comparison' },
  { name: 'jobs', label: 'Jobs' },
  { name: 'identity', label: 'Identity and hardware' },
  { name: 'checks', label: 'Checks' },
])
const partChoices = computed(() => parts.value.map((p) => ({ value: p, label: p })))
const previous = computed(() => list.value.filter((v) => !v.excluded)[1])
const against = computed(() => (baseline.value && baseline.value.id !== newest.value?.id ? baseline.value : previous.value))
</script>

<template>
  <div style="--above: 25rem">
    <ProblemNote :error="error" />
    <template v-if="d">
      <DeviceHead ref="head" :device="d" @test="testing = true" />
      <DoingNow :jobs="jobs?.items ?? []" />
      <DeviceTrouble :device="d" @pull="head?.pull()" />
      <section v-if="list.length" class="card mb-3 px-3 pt-2 pb-1.5">
        <div class="flex flex-wrap items-center gap-2">
          <h2>Timeline</h2>
          <ChoiceBar v-if="parts.length > 1" v-model="part" label="Parts" :choices="partChoices" />
          <span class="grow"></span>
          <AppButton small :busy="picked.length !== 2" @click="compare(both[0], both[1])"
            >Compare {{ picked.length === 2 ? both.join(' and ') : 'two' }}</AppButton
          >
        </div>
        <TimelineChart
          :versions="list"
          :jobs="jobs?.items ?? []"
          :swaps="swaps ?? []"
          :since="d.created_at"
          :picked="picked"
          @pick="pick"
          @span="compare"
        />
      </section>
      <TabBar :tabs="tabs" label="Of this device">
        <template #versions>
          <VersionTable :versions="list" :picked="picked" @picked="picked = $event">
            <EmptyNote v-if="versions" :title="`No version of ${part} yet`">Pull the device to keep what it runs.</EmptyNote>
          </VersionTable>
          <section v-if="newest && previous && list.length <= 8" class="mt-4">
            <h2 class="mb-1">What the newest changed</h2>
            <CompareView :key="newest.ref" :from="previous.ref" :to="newest.ref" low />
          </section>
        </template>
        <template #text>
          <VersionText v-if="newest" :key="newest.ref" :of="newest.ref" />
          <EmptyNote v-else title="Nothing was pulled yet">Pull the device to read what it runs.</EmptyNote>
        </template>
        <template #comparison>
          <CompareView v-if="newest && against" :key="against.ref + newest.ref" :from="against.ref" :to="newest.ref" />
          <EmptyNote v-else title="There is nothing to compare yet">One version is known. The next one will be compared with it.</EmptyNote>
        </template>
        <template #jobs><JobTable :jobs="jobs?.items ?? []" /></template>
        <template #identity><DeviceFacts :device="d" :swaps="swaps ?? []" /></template>
        <template #checks><LastChecks :jobs="jobs?.items ?? []" :device="d.name" /></template>
      </TabBar>
      <ModalDialog v-if="testing" title="Try the newest version out" @close="testing = false"><RestoreTest :device="d" /></ModalDialog>
    </template>
  </div>
</template>
