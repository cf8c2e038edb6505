<script setup lang="ts">
import { computed } from 'vue'
import type { Preview } from '../api/call'
import DataTable from '../design/DataTable.vue'
import type { Column } from '../design/table'
import DifferenceList from './DifferenceList.vue'

// What a preview says besides the lines: what they change, what speaks against them,
// what would still differ.
type Pair = Preview['key_facts'][number]
const props = defineProps<{ preview: Preview; may: boolean }>()
// The list shows what should go as gone and what is there as added; a change is the other way round.
const turned = (rs?: Preview['changes']) => (rs ?? []).map((r) => ({ ...r, have: r.want, want: r.have }))
const columns = computed<Column<Pair>[]>(() => [
  { id: 'name', label: '', value: (l) => l.name, width: '9rem' },
  { id: 'have', label: 'Only runs now', value: (l) => l.have.join(', ') },
  { id: 'want', label: 'Only in ' + props.preview.target, value: (l) => l.want.join(', ') },
])
const otherwise = computed(() => ({
  path: '/push',
  query: {
    ref: props.preview.target.split(',')[0],
    to: props.preview.device,
    method: props.preview.method,
    only: props.preview.only?.join('\n'),
    in_place: props.preview.in_place ? undefined : '1',
  },
}))
const lists = computed(() => {
  const p = props.preview
  return [
    { title: `What that changes in ${p.part}`, of: turned(p.changes) },
    { title: `Set aside, for it belongs to the hardware that ${p.target} was taken from`, of: p.set_aside },
    { title: 'Loaded into the candidate by somebody, and not committed', of: turned(p.loaded) },
    { title: `Would still differ from ${p.target}`, of: p.remaining },
  ].filter((l) => l.of.length)
})
</script>

<template>
  <p v-if="preview.assumed" class="text-faded">
    No rule of the dialect speaks of {{ preview.assumed === 1 ? '1 line' : `${preview.assumed} lines` }}: that
    {{ preview.assumed === 1 ? 'it does' : 'they do' }} what most lines do is assumed.
  </p>
  <div v-if="preview.approval" class="note">
    <b>A second person has to approve it</b> (the rule {{ preview.approval }}). Asking for that plans the push; it begins as soon as
    somebody else says so, within a day.
  </div>
  <div v-for="w in preview.warnings" :key="w" class="rounded border-2 border-alarm px-3 py-2">
    <b class="text-alarm">Warning:</b> {{ w }}
  </div>
  <div v-for="w in preview.notes" :key="w" class="note"><b>Note:</b> {{ w }}</div>
  <p v-if="may && (preview.beside || preview.in_place) && !preview.swap && !preview.undo_of">
    <RouterLink :to="otherwise">{{ preview.beside ? 'Take it apart where it stands instead' : 'Build it anew beside instead' }}</RouterLink>
  </p>
  <section v-if="preview.key_facts.length">
    <h2 class="mb-1">Key facts that change</h2>
    <DataTable name="Key facts" :columns="columns" :rows="preview.key_facts" :row-id="(l: Pair) => l.name" />
  </section>
  <section v-for="l in lists" :key="l.title">
    <h2 class="mb-1">{{ l.title }}</h2>
    <DifferenceList :differences="l.of" />
  </section>
  <details>
    <summary class="cursor-pointer font-semibold">What it is expected to run afterwards</summary>
    <pre class="card mono mt-2 max-h-96 overflow-auto p-3" tabindex="0">{{ preview.predicted }}</pre>
  </details>
</template>
