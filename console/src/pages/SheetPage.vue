<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { get, query, type Schemas } from '../api/call'
import ProblemNote from '../components/ProblemNote.vue'
import { when, zone } from '../composables/time'
import { useSession } from '../session'

// The least to type at a unit's console, to be printed and carried there.
const route = useRoute()
const session = useSession()
const what = computed(() => String(route.query.ref ?? ''))
const secrets = ref(false)
const { data: s, error } = useQuery({
  key: () => ['sheet', what.value, secrets.value],
  query: () => get<Schemas['BootstrapSheet']>('/bootstrap-sheet' + query({ ref: what.value, secrets: secrets.value ? 'true' : undefined })),
})
const print = () => window.print()
const now = when(new Date().toISOString())
</script>

<template>
  <ProblemNote :error="error" />
  <template v-if="s">
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <h1>Bootstrap sheet for {{ s.device }}</h1>
      <span class="grow"></span>
      <label v-if="session.me?.secrets && (s.hidden || secrets)" class="flex gap-2 print:hidden"
        ><input v-model="secrets" type="checkbox" class="accent-violet" name="secrets" />with the secrets (kept in the audit log)</label
      >
      <button type="button" class="button-main print:hidden" @click="print">Print it</button>
    </div>
    <dl class="mb-4 grid grid-cols-[auto_1fr] gap-x-3 gap-y-1">
      <dt class="text-faded">version</dt>
      <dd>{{ s.target }}</dd>
      <dt class="text-faded">sought at</dt>
      <dd>{{ s.at }}</dd>
      <dt class="text-faded">signs in as</dt>
      <dd>{{ s.user }}</dd>
      <dt class="text-faded">printed</dt>
      <dd>{{ now }} {{ zone }}</dd>
    </dl>
    <template v-if="s.file">
      <p class="mb-2">This family takes its configuration as a whole; there are no lines to type. Carry the file:</p>
      <dl class="card mb-4 grid grid-cols-[auto_1fr] gap-x-3 gap-y-1 p-3">
        <dt class="text-faded">file</dt>
        <dd>
          <a :href="'/api/v1/version/text' + query({ ref: s.target })" download>{{ s.file.part }}, {{ s.file.bytes }} bytes</a>
        </dd>
        <template v-if="s.file.sha256"
          ><dt class="text-faded">SHA-256</dt>
          <dd class="font-mono text-[13px] break-all">{{ s.file.sha256 }}</dd></template
        >
      </dl>
    </template>
    <template v-else>
      <h2 class="mb-2">{{ s.lines.length }} lines to type at the console, in this order</h2>
      <ol class="card mb-3 overflow-x-auto py-1 font-mono text-[13px] leading-6">
        <li v-for="(l, i) in s.lines" :key="i" class="flex">
          <span class="w-10 shrink-0 pr-3 text-right text-faded select-none">{{ i + 1 }}</span><span class="whitespace-pre">{{
            l.text
          }}</span
          ><span v-if="l.why" class="ml-4 text-faded">({{ l.why }})</span>
        </li>
      </ol>
      <p v-if="s.hidden" class="mb-3 text-gone-ink">The secrets of {{ s.hidden }} {{ s.hidden === 1 ? 'line' : 'lines' }} are hidden.</p>
    </template>
    <p>
      Then let the service take over: <RouterLink :to="'/devices/' + s.device">put the version on it from the device's page</RouterLink>. It
      puts all of it there, and proves it.
    </p>
  </template>
</template>
