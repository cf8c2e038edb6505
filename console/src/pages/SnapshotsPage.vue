<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Job, type Schemas, listAll } from '../api/call'
import ProblemNote from '../components/ProblemNote.vue'
import { useAttempt } from '../composables/attempt'
import { when, zone } from '../composables/time'
import { useSession } from '../session'

// Named sets of versions: made, and put back.
const router = useRouter()
const operator = useSession().may('operator')
const { data: all, error, refetch } = useQuery({ key: ['snapshots'], query: () => listAll<Schemas['Snapshot']>('/snapshots') })
const name = ref('')
const selector = ref('')
const at = ref('')
const note = ref('')
const { busy, trouble, attempt } = useAttempt()
const make = () =>
  attempt(async () => {
    await post('/snapshots', {
      name: name.value.trim(),
      selector: selector.value.trim().split(/\s+/),
      at: at.value ? new Date(at.value).toISOString() : undefined,
      note: note.value || undefined,
    })
    name.value = note.value = at.value = ''
    await refetch()
  })
const back = (x: string) =>
  attempt(async () => {
    const j = await post<Job>('/restore-previews', { selector: [], snapshot: x }, { 'Idempotency-Key': crypto.randomUUID() })
    void router.push('/jobs/' + j.id)
  })
</script>

<template>
  <h1 class="mb-3">Snapshots</h1>
  <ProblemNote :error="error ?? trouble" class="mb-3" />
  <form v-if="operator" class="card mb-4 flex flex-wrap items-end gap-3 p-3" @submit.prevent="make">
    <label class="grid gap-1"
      >Name<input v-model="name" class="field" name="name" required placeholder="before-storm" autocomplete="off" spellcheck="false"
    /></label>
    <label class="grid grow gap-1"
      >Of which devices<input
        v-model="selector"
        class="field"
        name="selector"
        required
        placeholder="site=callowmere, or name=*"
        autocomplete="off"
        spellcheck="false"
    /></label>
    <label class="grid gap-1">As they were<input v-model="at" type="datetime-local" class="field" name="at" /></label>
    <label class="grid grow gap-1">Note<input v-model="note" class="field" name="note" /></label>
    <button class="button-main" :disabled="busy || !name || !selector">Make it</button>
  </form>
  <div v-if="all?.length" class="card overflow-x-auto">
    <table class="w-full text-left">
      <thead class="border-b border-rule bg-leaf">
        <tr>
          <th class="px-3 py-1.5">Name</th>
          <th class="px-3">Holds</th>
          <th class="px-3">Of</th>
          <th class="hidden px-3 sm:table-cell">Made</th>
          <th class="hidden px-3 md:table-cell">Note</th>
          <th class="px-3"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="x in all" :key="x.name" class="border-b border-rule last:border-0 hover:bg-leaf">
          <td class="px-3 py-1.5 font-semibold">{{ x.name }}</td>
          <td class="px-3 whitespace-nowrap">{{ x.count }} {{ x.count === 1 ? 'version' : 'versions' }}</td>
          <td class="px-3">{{ x.selector }}</td>
          <td class="hidden px-3 whitespace-nowrap sm:table-cell">{{ when(x.made_at) }} by {{ x.made_by }}</td>
          <td class="hidden px-3 md:table-cell">{{ x.note }}</td>
          <td class="px-3 py-1 text-right">
            <button v-if="operator" type="button" class="button" :disabled="busy" @click="back(x.name)">Put all of it back…</button>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <p v-else-if="all" class="card p-6 text-center text-faded">
    No snapshots yet. A snapshot names one version of each part of some devices, as they are now or were at a time, so that all of it can be
    put back together.
  </p>
  <p class="mt-2 text-faded">A time left empty means as they were last pulled. Times are in {{ zone }}.</p>
</template>
