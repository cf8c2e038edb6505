<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'
import { call, listAll, query, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import DataTable from '../design/DataTable.vue'
import ProblemNote from '../design/ProblemNote.vue'
import type { Column } from '../design/table'
import TimeMark from '../design/TimeMark.vue'
import { useSession } from '../session'

// The browsers that are signed in: one's own; for an admin everybody's.
type Session = Schemas['Session']
const me = useSession().me?.user
const { data: all, error, refetch } = useQuery({ key: ['deed', 'sessions'], query: () => listAll<Session>('/sessions') })
const { busy, trouble, attempt } = useAttempt()
const end = (path: string) => attempt(async () => (await call('DELETE', path), await refetch()))
const others = computed(() => (all.value ?? []).filter((s) => s.user === me && !s.this).length)
const columns: Column<Session>[] = [
  { id: 'user', label: 'User', value: (s) => s.user, card: 'lead' },
  { id: 'from', label: 'From', value: (s) => s.from, width: 'minmax(8rem, 1fr)' },
  { id: 'made', label: 'Since', value: (s) => s.made_at, first: 'down', width: 'minmax(9.5rem, 1fr)' },
  { id: 'used', label: 'Used', value: (s) => s.used_at, first: 'down', width: 'minmax(7rem, 1fr)' },
  { id: 'deeds', label: '', width: '9rem' },
]
</script>

<template>
  <section class="mt-5">
    <div class="mb-2 flex flex-wrap items-center gap-3">
      <h2>Browsers that are signed in</h2>
      <AppButton v-if="others" small :busy="busy" @click="end('/sessions' + query({ user: me }))">End my other {{ others }}</AppButton>
    </div>
    <ProblemNote :error="error ?? trouble" class="mb-2" />
    <DataTable v-if="all" name="Sessions" :columns="columns" :rows="all" :row-id="(s: Session) => s.id">
      <template #made="{ row: s }"><TimeMark :at="s.made_at" exact /></template>
      <template #used="{ row: s }"><TimeMark :at="s.used_at" /></template>
      <template #deeds="{ row: s }"
        ><span v-if="s.this" class="text-faded">this one</span
        ><AppButton v-else small :busy="busy" :aria-label="`End the session of ${s.user} from ${s.from}`" @click="end('/sessions/' + s.id)"
          >End it</AppButton
        ></template
      >
    </DataTable>
  </section>
</template>
