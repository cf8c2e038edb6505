<script setup lang="ts">
import { computed, ref } from 'vue'
import { post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'

// Files made elsewhere, taken in as versions that count for nothing: looked at first.
type Taken = Schemas['TakenIn']
const files = ref<{ file: string; content: string; modified: string }[]>([])
const device = ref('')
const order = ref('')
const looked = ref<Taken[]>()
const done = ref(false)
const { busy, trouble, attempt } = useAttempt()
const base64 = (raw: ArrayBuffer) => {
  let text = ''
  const all = new Uint8Array(raw)
  for (let i = 0; i < all.length; i += 0x8000) text += String.fromCharCode(...all.subarray(i, i + 0x8000))
  return btoa(text)
}
const ask = async (preview: boolean) => {
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
  const named = files.value.map((f) => ({ ...f, ...(device.value ? { device: device.value } : {}) }))
  return (await post<{ items: Taken[] }>('/imports', { files: named, zone, preview, ...(order.value ? { date_order: order.value } : {}) }))
    .items
}
const look = () => attempt(async () => ((done.value = false), (looked.value = await ask(true))))
const pick = async (list: FileList) => {
  looked.value = undefined
  const open = async (f: File) => ({
    file: f.name,
    content: base64(await f.arrayBuffer()),
    modified: new Date(f.lastModified).toISOString(),
  })
  const read = await attempt(async () => void (files.value = await Promise.all([...list].map(open))))
  if (read && files.value.length) await look()
}
const go = () => attempt(async () => ((looked.value = await ask(false)), (done.value = true)))
const fresh = computed(() => looked.value?.filter((t) => t.became === 'added').length ?? 0)
const columns: Column<Taken>[] = [
  { id: 'file', label: 'File', value: (t) => t.file, width: 'minmax(12rem, 2fr)', card: 'lead' },
  { id: 'device', label: 'Device', value: (t) => t.device ?? '', width: 'minmax(7rem, 1fr)' },
  { id: 'part', label: 'Part', value: (t) => t.part ?? '', width: '6rem' },
  { id: 'taken', label: 'Of when', value: (t) => t.taken_at, width: '9.5rem' },
  { id: 'by', label: 'Known by', value: (t) => t.by ?? '', width: 'minmax(9rem, 1.5fr)' },
  { id: 'became', label: 'Becomes', value: (t) => t.became, width: '8rem', card: 'lead' },
  { id: 'why', label: 'Why not', value: (t) => t.why ?? '', width: 'minmax(10rem, 2fr)' },
]
</script>

<template>
  <section aria-labelledby="files-in">
    <h2 id="files-in" class="mb-1">Files in, as versions</h2>
    <p class="mb-2 max-w-prose text-faded">
      Configurations that were kept elsewhere. Whose each is and of when is looked for in its name and in itself. They are set aside: they
      count for no drift, and say of the unit no more than the file does. Taken in twice, they add nothing the second time.
    </p>
    <div class="flex flex-wrap items-end gap-3">
      <FormField label="Files" name="in-files" type="file" many class="w-full sm:w-72" @file="pick" />
      <FormField v-model.trim="device" label="All of this device" name="in-device" placeholder="looked for, if left empty" />
      <FormField
        v-model="order"
        label="Dates in names"
        name="in-order"
        type="select"
        :options="[
          { value: '', label: 'as they can only be meant' },
          { value: 'day-first', label: 'day first' },
          { value: 'month-first', label: 'month first' },
          { value: 'year-first', label: 'year first' },
        ]"
      />
      <AppButton v-if="files.length" :busy="busy" @click="look">Look again</AppButton>
      <AppButton v-if="fresh && !done" main :busy="busy" @click="go">Take {{ fresh }} in</AppButton>
    </div>
    <ProblemNote :error="trouble" class="mt-2" />
    <p v-if="looked" role="status" class="mt-2">
      {{ done ? `${fresh} were taken in.` : `${fresh} of ${looked.length} would be taken in.` }}
    </p>
    <DataTable v-if="looked" name="Files" :columns="columns" :rows="looked" :row-id="(t: Taken) => t.file">
      <template #taken="{ row: t }"><TimeMark v-if="t.taken_at" :at="t.taken_at" exact /></template>
      <template #became="{ row: t }"
        ><RouterLink v-if="t.number && t.device" :to="`/version?ref=${t.device}/${t.part}@${t.number}`">{{ t.became }}</RouterLink
        ><span v-else :class="t.became === 'refused' ? 'text-alarm' : ''">{{ t.became }}</span></template
      >
    </DataTable>
  </section>
</template>
