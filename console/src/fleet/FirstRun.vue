<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { listAll, patch, post, query, type Device, type Schemas, versionsOf } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import ProblemNote from '../design/ProblemNote.vue'
import RestoreTest from '../device/RestoreTest.vue'
import { useSession } from '../session'
import ScheduleForm from '../schedules/ScheduleForm.vue'
import { nightly } from '../schedules/rule'
import MailFirst from '../notifications/MailFirst.vue'
import AddDevice from './AddDevice.vue'

// A new service: the four steps that lead to a first verified restore, each done here.
const props = defineProps<{ devices: Device[] }>()
const session = useSession()
const operator = session.may('operator')
const admin = session.may('admin')
const adding = ref(false)
const spare = ref(false) // what is added is one
const { busy, trouble, attempt } = useAttempt()
const first = computed(() => [...props.devices].sort((a, b) => a.created_at.localeCompare(b.created_at)).find((d) => !d.member))
const { data: versions } = useQuery({
  key: () => ['part', first.value?.name ?? '', 'first run'],
  query: () => versionsOf(first.value!.name),
  enabled: () => !!first.value?.latest,
})
const baseline = computed(() => versions.value?.find((v) => v.baseline))
const steps = computed(() => [
  {
    title: 'Tell the service of a device',
    done: !!first.value,
    says: first.value ? `${first.value.name} at ${first.value.address}` : 'Its address, its key and a login that may read.',
  },
  {
    title: 'Pull it for the first time',
    done: !!first.value?.latest,
    says: first.value?.latest
      ? 'Its configuration is kept.'
      : first.value?.trouble || 'What it runs is fetched whole, and kept as version 1.',
  },
  {
    title: 'Approve what it runs',
    done: !!baseline.value,
    says: baseline.value ? `${baseline.value.ref} is the baseline.` : 'From then on you are told when it drifts.',
  },
  {
    title: 'Prove that it can be put back',
    done: props.devices.some((d) => d.last_proven),
    says: 'A version goes onto a spare of the family, is proved there, and what ran there before is put back.',
  },
])
// So that nobody has to think of it.
const { data: schedules, refetch: again } = useQuery({
  key: ['deed', 'schedules'],
  query: () => listAll<Schemas['Schedule']>('/schedules'),
})
const { data: rules, refetch } = useQuery({
  key: ['deed', 'tell rules'],
  query: () => listAll<Schemas['NotificationRule']>('/notification-rules'),
})
const making = ref(false)
const mailing = ref(false)
const now = computed(() => steps.value.findIndex((s) => !s.done))
const pull = () => attempt(() => post('/pulls', { selector: [first.value!.name] }))
const approve = () => attempt(() => patch('/version' + query({ ref: first.value!.name + '@latest' }), { baseline: true }))
</script>

<template>
  <section class="card mb-4 p-4" aria-label="The first steps">
    <h2 class="mb-1 text-base">Four steps to a backup that is known to work</h2>
    <ol class="grid gap-3 lg:grid-cols-4">
      <li
        v-for="(s, i) in steps"
        :key="s.title"
        class="grid content-start gap-1 rounded border p-3"
        :class="i === now ? 'border-violet' : 'border-rule'"
      >
        <p class="font-semibold" :class="s.done ? 'text-teal' : i === now ? '' : 'text-faded'">
          {{ s.done ? '✓' : i + 1 + '.' }} {{ s.title }}
        </p>
        <p class="text-faded">{{ s.says }}</p>
        <template v-if="i === now">
          <AppButton v-if="i === 0 && admin" main @click="((spare = false), (adding = true))">Add a device</AppButton>
          <AppButton v-if="i === 1 && operator" main :busy="busy" @click="pull">Pull {{ first?.name }}</AppButton>
          <AppButton v-if="i === 2 && operator" main :busy="busy" @click="approve">Make version {{ first?.latest }} the baseline</AppButton>
          <template v-if="i === 3 && operator && first">
            <RestoreTest :device="first" />
            <AppButton v-if="admin" @click="((spare = true), (adding = true))">Add a spare</AppButton>
          </template>
        </template>
      </li>
    </ol>
    <div v-if="devices.length && operator" class="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2">
      <span class="text-faded">So that nobody has to think of it:</span>
      <span v-if="schedules?.length" class="font-semibold text-teal">✓ {{ schedules[0].name }} runs {{ schedules[0].rule }}</span>
      <AppButton v-else-if="schedules" @click="making = true">Pull everything every night…</AppButton>
      <span v-if="rules?.length" class="font-semibold text-teal">✓ {{ rules[0].recipients.join(', ') }} is told when it fails</span>
      <AppButton v-else-if="rules && admin" @click="mailing = true">Send mail when something fails…</AppButton>
    </div>
    <ProblemNote :error="trouble" class="mt-3" />
    <ScheduleForm v-if="making" :start="nightly" @close="making = false" @saved="((making = false), void again())" />
    <MailFirst v-if="mailing" @close="mailing = false" @saved="((mailing = false), void refetch())" />
    <AddDevice v-if="adding" :spare="spare" @close="adding = false" @added="adding = false" />
  </section>
</template>
