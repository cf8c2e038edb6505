<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { get, query, type Schemas } from '../api/call'
import { when, zone } from '../composables/time'
import AppButton from '../design/AppButton.vue'
import FactList from '../design/FactList.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
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
const facts = computed(() => [
  { word: 'version', says: s.value?.target },
  { word: 'sought at', says: s.value?.at },
  { word: 'signs in as', says: s.value?.user },
  { word: 'printed', says: `${now} ${zone}` },
])
const download = computed(() => '/api/v1/version/text' + query({ ref: s.value?.target }))
</script>

<template>
  <ProblemNote :error="error" />
  <div v-if="s" class="grid gap-3">
    <div class="flex flex-wrap items-center gap-3">
      <h1>Bootstrap sheet for {{ s.device }}</h1>
      <span class="grow"></span>
      <span v-if="session.me?.secrets && (s.hidden || secrets)" class="print-not"
        ><FormField v-model="secrets" type="check" label="with the secrets (kept in the audit log)" name="secrets"
      /></span>
      <AppButton main class="print-not" @click="print">Print it</AppButton>
    </div>
    <FactList bare :facts="facts" />
    <template v-if="s.file">
      <p>This family takes its configuration as a whole; there are no lines to type. Carry the file:</p>
      <FactList :facts="[{ word: 'file' }, { word: 'SHA-256', says: s.file.sha256, mono: true }]">
        <template #file
          ><a :href="download" download>{{ s.file.part }}, {{ s.file.bytes }} bytes</a></template
        >
      </FactList>
    </template>
    <template v-else>
      <h2>{{ s.lines.length }} lines to type at the console, in this order</h2>
      <ol class="card mono overflow-x-auto py-1 leading-6">
        <li v-for="(l, i) in s.lines" :key="i" class="flex">
          <span class="w-10 shrink-0 pr-3 text-right text-faded select-none">{{ i + 1 }}</span><span class="whitespace-pre">{{
            l.text
          }}</span
          ><span v-if="l.why" class="ml-4 text-faded">({{ l.why }})</span>
        </li>
      </ol>
      <p v-if="s.untold">
        No line of it holds the address at which it is sought, so all that carry a way are listed; leave out what is not needed.
      </p>
      <p v-if="s.hidden" class="text-gone-ink">The secrets of {{ s.hidden }} {{ s.hidden === 1 ? 'line' : 'lines' }} are hidden.</p>
    </template>
    <p>
      Then let the service take over: <RouterLink :to="'/devices/' + s.device">put the version on it from the device's page</RouterLink>. It
      puts all of it there, and proves it.
    </p>
  </div>
</template>
