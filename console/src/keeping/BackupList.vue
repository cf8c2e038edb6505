<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { listAll, post, type Job, type Schemas } from '../api/call'
import { bytes } from '../composables/bytes'
import { useAttempt } from '../composables/attempt'
import { ended } from '../composables/job'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import EmptyNote from '../design/EmptyNote.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'

// The backups of the service itself: made, and proved in a scratch database.
type Backup = Schemas['Backup']
const admin = useSession().may('admin')
const {
  data: all,
  error,
  refetch,
} = useQuery({
  key: ['deed', 'backups'],
  query: () => listAll<Backup>('/backups'),
  enabled: () => admin.value,
})
const { data: targets } = useQuery({ key: ['deed', 'targets'], query: () => listAll<Schemas['Target']>('/targets') })
const takes = computed(() => (targets.value ?? []).filter((t) => t.kind !== 'git').map((t) => ({ value: t.name, label: t.name })))
const chosen = ref('')
const to = computed({ get: () => chosen.value || (takes.value[0]?.value ?? ''), set: (v) => (chosen.value = v) })
const settings = ref(false)
const said = ref('')
const { busy, trouble, attempt } = useAttempt()
const ask = (kind: string, withWords: Record<string, string>) =>
  attempt(async () => {
    said.value = ''
    const end = await ended((await post<Job>('/jobs', { kind, with: withWords })).id)
    said.value = `${end.outcome}: ${end.summary}`
    await refetch()
  })
const columns: Column<Backup>[] = [
  { id: 'made', label: 'Made', value: (b) => b.made_at, width: '9.5rem', first: 'down', card: 'lead' },
  { id: 'target', label: 'Target', value: (b) => b.target, card: 'lead' },
  { id: 'holds', label: 'Holds', value: (b) => (b.history ? 'all' : 'settings'), width: '5.5rem' },
  { id: 'devices', label: 'Devices', value: (b) => b.devices, width: '5rem', right: true },
  { id: 'versions', label: 'Versions', value: (b) => b.versions, width: '5.5rem', right: true },
  { id: 'bytes', label: 'Size', value: (b) => b.bytes, width: '6rem', right: true },
  { id: 'proven', label: 'Last proven', value: (b) => b.proven_at, width: '9.5rem' },
  { id: 'deeds', label: '', width: '6rem' },
]
</script>

<template>
  <section v-if="admin" aria-labelledby="backups">
    <h2 id="backups" class="mb-1">Backups of the service</h2>
    <p class="mb-2 max-w-prose text-faded">
      The whole service in one sealed file, which opens with the master key. Proving one restores it into a scratch database and holds every
      row and text against what was backed up. A schedule can do both. It is restored on the new machine:
      <code class="mono">magpie backup restore</code>.
    </p>
    <div class="mb-2 flex flex-wrap items-end gap-3">
      <FormField v-if="takes.length" v-model="to" label="To" name="backup-to" type="select" :options="takes" />
      <FormField v-if="takes.length" v-model="settings" label="settings only, without history" name="backup-settings" type="check" />
      <AppButton v-if="takes.length" :busy="busy" @click="ask('backup', { to, history: settings ? 'no' : 'yes' })">Back up now</AppButton>
      <span v-if="said" role="status">{{ said }}</span>
    </div>
    <ProblemNote :error="error ?? trouble" class="mb-2" />
    <DataTable v-if="all" name="Backups" :columns="columns" :rows="all" :row-id="(b: Backup) => b.id">
      <template #made="{ row: b }"><TimeMark :at="b.made_at" exact /></template>
      <template #bytes="{ row: b }">{{ bytes(b.bytes) }}</template>
      <template #proven="{ row: b }"
        ><span v-if="b.trouble" class="text-alarm">{{ b.trouble }}</span
        ><TimeMark v-else-if="b.proven_at" :at="b.proven_at" exact /><template v-else>never</template></template
      >
      <template #deeds="{ row: b }"
        ><AppButton small :busy="busy" :aria-label="'Prove the backup of ' + b.made_at" @click="ask('backup-test', { backup: b.id })"
          >Prove</AppButton
        ></template
      >
      <template #none
        ><EmptyNote title="The service was never backed up">{{
          takes.length ? 'Back it up now, and by a schedule.' : 'Add a target first: a folder or a server that takes files.'
        }}</EmptyNote></template
      >
    </DataTable>
  </section>
</template>
