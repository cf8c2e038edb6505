<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { useIntervalFn, useLocalStorage, useMediaQuery } from '@vueuse/core'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type Schemas } from '../api/call'
import { when } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import SideDrawer from '../design/SideDrawer.vue'
import { useFleet } from '../fleet'
import SheetDue from '../fleet/SheetDue.vue'
import AlikeList from '../fleet/AlikeList.vue'
import BulkBar from '../fleet/BulkBar.vue'
import FacetList from '../fleet/FacetList.vue'
import FleetSearch from '../fleet/FleetSearch.vue'
import FleetTable from '../fleet/FleetTable.vue'
import { keys, picks, read } from '../selector'
import { useSession } from '../session'

const ChangeStrip = defineAsyncComponent(() => import('../fleet/ChangeStrip.vue'))
const FirstRun = defineAsyncComponent(() => import('../fleet/FirstRun.vue'))

// Every device at a glance, worst first.
const admin = useSession().may('admin')
const fleet = useFleet()
const route = useRoute()
const router = useRouter()
const text = computed({
  get: () => String(route.query.select ?? ''),
  set: (select) => void router.replace({ query: { ...route.query, select: select || undefined } }),
})
const { data: status, refetch } = useQuery({
  key: ['device', 'order'],
  query: () => get<Schemas['Status']>('/status'),
  staleTime: 3600_000,
})
useIntervalFn(() => void refetch(), 60_000) // nothing tells that room runs out
const order = computed(() => status.value?.order ?? [])
const sheetDue = computed(() => admin.value && status.value?.sheet_due)
const notices = computed(() => (sheetDue.value ? 1 : 0) + (status.value?.halted ? 1 : 0))
const choice = computed(() => read(text.value))
const listed = computed(() => (text.value ? fleet.devices.filter((d) => picks(choice.value, d)) : fleet.devices))
const chosen = computed(() => new Set(listed.value.map((d) => d.name)))
const picked = ref<string[]>([])
watch(chosen, (c) => (picked.value = picked.value.filter((n) => c.has(n))))
const bySite = useLocalStorage('fleet by site', false)
const wide = useMediaQuery('(min-width: 1024px)')
const facets = ref(false)
const early = computed(() => fleet.known && fleet.devices.length < 4 && !fleet.devices.some((d) => d.last_proven))
</script>

<template>
  <div :style="{ '--above': `${15.5 + 4.25 * notices}rem` }">
    <p v-if="fleet.status?.as_of" class="mb-3 rounded border-2 border-alarm px-3 py-2" role="alert">
      <b class="text-alarm">The service's database is away.</b> What stands here was so {{ when(fleet.status.as_of) }}.
    </p>
    <ProblemNote v-else :error="fleet.trouble" class="mb-3" />
    <p v-if="status?.halted" class="mb-3 rounded border-2 border-alarm px-3 py-2" role="alert">
      <b class="text-alarm">Nothing new is begun:</b> {{ status.halted }}.
    </p>
    <SheetDue v-if="sheetDue" />
    <FirstRun v-if="early" :devices="fleet.devices" />
    <template v-if="!early || fleet.devices.length">
      <div class="mb-2 flex flex-wrap items-center gap-2">
        <h1 class="mr-1">Fleet</h1>
        <span class="text-faded" role="status">{{
          text
            ? `${listed.length} of ${fleet.devices.length}`
            : `${fleet.devices.length} ${fleet.devices.length === 1 ? 'device' : 'devices'}`
        }}</span>
        <span class="flex min-w-60 grow basis-60 gap-2"><FleetSearch v-model="text" :devices="fleet.devices" /></span>
        <AppButton v-if="text" @click="text = ''">Clear</AppButton>
        <AppButton v-if="!wide" @click="facets = true">Filter</AppButton>
        <FormField v-model="bySite" type="check" label="by site" name="by-site" class="max-sm:hidden" />
        <BulkBar v-if="!choice.wrong.length" v-model:picked="picked" :listed="listed" :text="text" />
      </div>
      <p v-if="choice.wrong.length" class="note mb-2" role="alert">
        {{ choice.wrong.join(', ') }}: that is no key, so no device is chosen; the keys are {{ keys.join(', ') }}.
      </p>
      <div class="grid gap-4 lg:grid-cols-[11rem_minmax(0,1fr)]">
        <aside v-if="wide" class="max-h-[calc(100dvh-8rem)] overflow-auto pr-1">
          <FacetList v-model="text" :devices="fleet.devices" :order="order" />
        </aside>
        <section class="grid min-w-0 content-start gap-3">
          <AlikeList v-model="text" :devices="fleet.devices" />
          <ChangeStrip v-if="fleet.known" :chosen="chosen" />
          <FleetTable v-if="order.length" v-model:picked="picked" :devices="listed" :order="order" :by-site="bySite">
            <template #none>
              <EmptyNote v-if="fleet.known" :title="text ? 'No device is chosen by this' : 'No devices yet'">{{
                text ? 'Change the words above, or clear them.' : 'Add the first one; it is pulled at once.'
              }}</EmptyNote>
            </template>
          </FleetTable>
        </section>
      </div>
    </template>
    <SideDrawer v-if="facets && !wide" title="Narrow the choice" @close="facets = false">
      <FacetList v-model="text" :devices="fleet.devices" :order="order" />
    </SideDrawer>
  </div>
</template>
