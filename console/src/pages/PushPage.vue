<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, post, type Device, type Dialect, type Job, type Probe, type Schemas, listAll } from '../api/call'
import AppButton from '../design/AppButton.vue'
import ProblemNote from '../design/ProblemNote.vue'
import JobLog from '../jobs/JobLog.vue'
import { ended, useJob } from '../composables/job'
import { when } from '../composables/time'
import ChooseForm from '../push/ChooseForm.vue'
import KeyNote from '../push/KeyNote.vue'
import StepBar from '../push/StepBar.vue'
import { once } from '../composables/once'

// Asks what a push would do, and leads to the preview's own page.
const route = useRoute()
const router = useRouter()
const what = computed(() => String(route.query.ref ?? ''))
const method = route.query.method ? String(route.query.method) : undefined // the dialect's own preference
const id = ref<string>()
const trouble = ref<Error>()
const { log } = useJob(id)

const only = String(route.query.only ?? '')
  .split('\n')
  .map((b) => b.trim())
  .filter(Boolean)
const swap = route.query.swap === '1'
const place = route.query.at ? String(route.query.at) : undefined
const through = ref(route.query.relay ? String(route.query.relay) : undefined)
const relays = ref<Schemas['Relay'][]>([])
const device = String(route.query.to ?? '')
const key = ref<{ shown: string; before?: string }>() // another key than the device's, to be accepted

// another asks for the key of a unit that is new here or somewhere else.
async function another(): Promise<boolean> {
  const d = await get<Device>('/devices/' + encodeURIComponent(device))
  const dialect = await get<Dialect>('/dialects/' + encodeURIComponent(d.dialect))
  const way = dialect.ways.find((w) => w.transport === d.transport) ?? dialect.ways[0]
  if (!way?.shows_key) return false
  const [, host, port] = /^(.*?)(?::(\d+))?$/.exec(place ?? d.address) ?? []
  const p = await post<Probe>('/probe', {
    transport: way.transport,
    address: host,
    port: port ? Number(port) : d.port,
    relay: through.value,
  })
  if (p.fingerprint === d.host_key_fingerprint && !place) return false
  key.value = { shown: p.fingerprint, before: d.host_key_fingerprint }
  return true
}

async function look(accepted?: string) {
  trouble.value = undefined
  try {
    if ((swap || place) && !accepted && (await another())) return
    key.value = undefined
    const body = route.query.undo
      ? { undo_of: String(route.query.undo) }
      : {
          ref: what.value,
          to: device || undefined,
          method,
          only: only.length ? only : undefined,
          in_place: route.query.in_place === '1' || undefined,
          exactly: route.query.exactly === '1' || undefined,
          swap: swap || undefined,
          at: place,
          accept_key: accepted,
          relay: through.value,
        }
    id.value = (await post<Job>('/previews', body, { 'Idempotency-Key': once() })).id
    const j = await ended(id.value)
    if (j.preview) void router.replace('/push/' + j.preview)
    else trouble.value = new Error('Nothing was sent: ' + j.summary)
  } catch (e) {
    trouble.value = e as Error
  }
  // Where the service cannot reach it, a machine beside it may lend its reach.
  const name = device || what.value.split(/[@/]/)[0]
  if (trouble.value && !through.value)
    relays.value = (await listAll<Schemas['Relay']>('/relays').catch(() => [])).filter((r) => r.device === name)
}
const use = (r: Schemas['Relay']) => ((through.value = r.id), void look())
if (what.value || route.query.undo) void look()
</script>

<template>
  <StepBar :at="0" />
  <h1 class="mb-3">
    <template v-if="swap">Another unit for {{ device }}</template
    ><template v-else-if="route.query.undo">Take a push back</template><template v-else>Put {{ what || 'a version' }} back</template>
  </h1>
  <ChooseForm v-if="!what && !route.query.undo" />
  <ProblemNote :error="trouble" class="mb-3" />
  <KeyNote v-if="key" :shown="key.shown" :before="key.before" @accept="look(key!.shown)" />
  <p v-if="id && !trouble" class="mb-2 text-faded" role="status">Looking at the device and working out what would be sent…</p>
  <JobLog v-if="id" :log="log" />
  <p v-for="r in trouble ? relays : []" :key="r.id" class="mt-3">
    <AppButton main @click="use(r)">Go through relay {{ r.id }}</AppButton
    >{{ ' ' }}
    <span class="text-faded"
      >{{ r.actor }} lends the reach of a machine beside it<template v-if="r.address">, to {{ r.address }}</template
      >, until {{ when(r.until) }}</span
    >
  </p>
  <p v-if="trouble" class="mt-3 flex gap-2">
    <AppButton @click="look()">Look again</AppButton>
    <AppButton :to="{ path: '/push', query: { to: device || what.split(/[@/]/)[0] } }">Choose otherwise</AppButton>
  </p>
</template>
