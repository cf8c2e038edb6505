<script setup lang="ts">
import { computed, ref } from 'vue'
import { post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'

// Devices as a file, out and in: what a file would change is shown before it does.
type Imported = Schemas['Imported']
const file = ref<{ file: string; as: string }>()
const keys = ref(false)
const skip = ref(false)
const looked = ref<Imported>()
const done = ref<Imported>()
const { busy, trouble, attempt } = useAttempt()
const ask = (preview: boolean) =>
  post<Imported>('/devices-import', { ...file.value, preview, accept_keys: keys.value, skip_bad: skip.value })
const look = () =>
  attempt(async () => {
    done.value = undefined
    looked.value = await ask(true)
  })
const pick = async (files: FileList) => {
  const f = files[0]
  looked.value = done.value = undefined
  if (!f) return void (file.value = undefined)
  const as = /\.ya?ml$/.test(f.name) ? 'yaml' : 'csv'
  if (await attempt(async () => void (file.value = { file: await f.text(), as }))) await look()
}
const go = () =>
  attempt(async () => {
    done.value = await ask(false)
    if (done.value.bad.length && !skip.value) looked.value = done.value
    else looked.value = undefined
  })
const edited = computed(() => new Set(looked.value?.changes.map((c) => c.device)).size)
const may = computed(() => looked.value && (looked.value.new || edited.value) && (!looked.value.bad.length || skip.value))
const changes: Column<Schemas['FieldChange']>[] = [
  { id: 'device', label: 'Device', value: (c) => c.device },
  { id: 'column', label: 'What', value: (c) => c.column },
  { id: 'from', label: 'Is', value: (c) => c.from },
  { id: 'to', label: 'Would be', value: (c) => c.to },
]
const wrong: Column<Schemas['BadRow']>[] = [
  { id: 'row', label: 'Row', value: (b) => b.row, width: '4rem' },
  { id: 'name', label: 'Device', value: (b) => b.name },
  { id: 'column', label: 'Column', value: (b) => b.column, width: '8rem' },
  { id: 'detail', label: 'What is wrong', value: (b) => b.detail, width: 'minmax(12rem, 3fr)' },
]
</script>

<template>
  <section aria-labelledby="device-file">
    <h2 id="device-file" class="mb-1">Devices as a file</h2>
    <p class="mb-2 max-w-prose text-faded">
      The columns are name, address and dialect, and what else is known; logins stay here. A file that is read adds devices and changes
      those that are there; read twice, it changes nothing the second time.
    </p>
    <div class="flex flex-wrap items-end gap-3">
      <a class="button" href="/api/v1/devices-export?as=csv" download="devices.csv">All as CSV</a>
      <a class="button" href="/api/v1/devices-export?as=yaml" download="devices.yaml">All as YAML</a>
      <FormField label="Read a file" name="device-file" type="file" class="w-full sm:w-72" @file="pick" />
      <FormField v-model="keys" class="w-full" type="check" label="accept whatever keys new devices show now" name="accept-keys" />
    </div>
    <ProblemNote :error="trouble" class="mt-2" />
    <div v-if="looked" class="mt-3 grid gap-3">
      <p role="status">
        {{ looked.new }} would be added, {{ edited }} changed; {{ looked.same }} are as the file has them,
        {{ looked.bad.length === 1 ? '1 row is' : looked.bad.length + ' rows are' }}
        wrong.
      </p>
      <DataTable
        v-if="looked.changes.length"
        name="Changes"
        :columns="changes"
        :rows="looked.changes"
        :row-id="(c: any) => c.device + c.column"
      />
      <DataTable
        v-if="looked.bad.length"
        name="Wrong rows"
        :columns="wrong"
        :rows="looked.bad"
        :row-id="(b: any) => b.row + (b.column ?? '')"
      />
      <FormField v-if="looked.bad.length" v-model="skip" type="check" label="go on with the rows that are right" name="skip-bad" />
      <div class="flex gap-2">
        <AppButton :busy="busy" @click="look">Look again</AppButton>
        <AppButton main :busy="busy || !may" @click="go">Do it</AppButton>
      </div>
    </div>
    <p v-if="done && !looked" role="status" class="mt-2">
      {{ done.added.length }} added, {{ done.changed.length }} changed.
      <RouterLink v-if="done.added.length" :to="{ path: '/', query: { select: 'state=never-pulled' } }"
        >Pull them for the first time</RouterLink
      >
    </p>
  </section>
</template>
