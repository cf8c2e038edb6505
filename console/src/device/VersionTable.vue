<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Version } from '../api/call'
import { when } from '../composables/time'
import FormField from '../design/FormField.vue'
import DataTable from '../design/DataTable.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'
import MarkVersion from './MarkVersion.vue'
import { countedFrom } from './versions'

// A part's versions, newest first. Two that are picked can be compared.
const props = defineProps<{ versions: Version[]; picked: number[] }>()
const emit = defineEmits<{ picked: [numbers: number[]] }>()
const router = useRouter()
const operator = useSession().may('operator')
const ids = computed({
  get: () => props.picked.map(String),
  set: (v) => emit('picked', v.map(Number).slice(-2)),
})
const words = ref('')
const found = computed(() => {
  const all = words.value.toLowerCase().split(/\s+/).filter(Boolean)
  const said = (v: Version) =>
    [v.number, v.name, v.note, v.author, v.actor, v.reason, v.serial, v.release, v.excluded, when(v.taken_at)].join('\n').toLowerCase()
  return all.length ? props.versions.filter((v) => all.every((w) => said(v).includes(w))) : props.versions
})
const columns: Column<Version>[] = [
  { id: 'number', label: 'No.', value: (v) => v.number, width: '4rem', always: true, first: 'down', card: 'lead' },
  { id: 'taken', label: 'Taken', value: (v) => v.taken_at, width: '9.5rem', first: 'down', card: 'lead' },
  {
    id: 'change',
    label: 'Change',
    value: (v) => (v.number > 1 || !v.lines ? v.added + v.removed : undefined),
    width: '6rem',
    first: 'down',
  },
  { id: 'author', label: 'Changed by', value: (v) => v.author ?? '', width: 'minmax(5.5rem, 0.6fr)' },
  { id: 'reason', label: 'Pulled', value: (v) => v.reason, width: 'minmax(6rem, 0.7fr)' },
  { id: 'seen', label: 'Seen until', value: (v) => v.seen_until, width: '7rem', hidden: true },
  { id: 'size', label: 'Lines', value: (v) => v.lines, width: '5rem', hidden: true, right: true },
  { id: 'serial', label: 'Serial', value: (v) => v.serial ?? '', width: '7rem', hidden: true },
  { id: 'release', label: 'Release', value: (v) => v.release ?? '', width: '6rem', hidden: true },
  { id: 'copies', label: 'Copies', value: (v) => v.copies, width: '4.5rem', hidden: true, right: true },
  { id: 'marks', label: 'Name and marks', value: (v) => v.name ?? 'none', width: 'minmax(9rem, 2fr)' },
  { id: 'deeds', label: '', width: '8.5rem', always: true },
]
const before = (v: Version) => countedFrom(props.versions, v)?.ref ?? v.ref.replace(/@\d+$/, '@' + (v.number - 1))
</script>

<template>
  <FormField
    v-if="versions.length > 3"
    v-model="words"
    bare
    label="Look for versions"
    name="version-words"
    class="mb-2 max-w-md"
    placeholder="look for a name, note, who, reason, serial, release, day"
  />
  <DataTable
    v-model:picked="ids"
    name="Versions"
    :columns="columns"
    :rows="found"
    :row-id="(v: Version) => String(v.number)"
    picks
    tall
    @open="(v: Version) => router.push('/version?ref=' + v.ref)"
  >
    <template #number="{ row: v }"
      ><RouterLink :to="'/version?ref=' + v.ref" class="font-semibold" :aria-label="'version ' + v.number">{{
        v.number
      }}</RouterLink></template
    >
    <template #taken="{ row: v }"><TimeMark :at="v.taken_at" exact /></template>
    <template #seen="{ row: v }"><TimeMark :at="v.seen_until" /></template>
    <template #change="{ row: v }"
      ><template v-if="v.lines === 0">{{ v.size }} bytes</template
      ><RouterLink v-else-if="v.number > 1" :to="`/compare?from=${before(v)}&to=${v.ref}`" :aria-label="`what changed in ${v.number}`"
        ><span class="text-added-ink">+{{ v.added }}</span> <span class="text-gone-ink">−{{ v.removed }}</span></RouterLink
      ></template
    >
    <template #marks="{ row: v }"
      ><span v-if="v.excluded" class="mr-2" :class="v.excluded === 'edited' ? 'text-violet' : 'text-alarm'">{{ v.excluded }}</span
      ><MarkVersion :version="v" :can="operator"
    /></template>
    <template #deeds="{ row: v }">
      <span class="flex items-center justify-end gap-3">
        <RouterLink :to="'/version?ref=' + v.ref">text</RouterLink>
        <RouterLink v-if="operator" :to="'/push?ref=' + v.ref">{{ v.excluded === 'edited' ? 'push' : 'put back' }}</RouterLink>
      </span>
    </template>
    <template #none><slot /></template>
  </DataTable>
</template>
