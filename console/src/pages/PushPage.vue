<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { post, type Job } from '../api/call'
import JobLog from '../components/JobLog.vue'
import ProblemNote from '../components/ProblemNote.vue'
import { ended, useJob } from '../composables/job'

// Asks what a push would do, and leads to the preview's own page.
const route = useRoute()
const router = useRouter()
const what = computed(() => String(route.query.ref ?? ''))
const method = route.query.method ? String(route.query.method) : undefined // the dialect's own preference
const id = ref<string>()
const trouble = ref<Error>()
const { log } = useJob(id)

async function look() {
  trouble.value = undefined
  try {
    const body = route.query.undo ? { undo_of: String(route.query.undo) } : { ref: what.value, method }
    id.value = (await post<Job>('/previews', body, { 'Idempotency-Key': crypto.randomUUID() })).id
    const j = await ended(id.value)
    if (j.preview) void router.replace('/push/' + j.preview)
    else trouble.value = new Error('Nothing was sent: ' + j.summary)
  } catch (e) {
    trouble.value = e as Error
  }
}
if (what.value || route.query.undo) void look()
</script>

<template>
  <h1 class="mb-3">Put {{ what || 'a version' }} back</h1>
  <p v-if="!what && !route.query.undo" class="text-faded">Choose a version on a device's page first.</p>
  <ProblemNote :error="trouble" class="mb-3" />
  <template v-if="id && !trouble"><p class="mb-2 text-faded" role="status">Looking at the device and working out what would be sent…</p></template>
  <JobLog v-if="id" :log="log" />
  <button v-if="trouble" type="button" class="button mt-3" @click="look">Look again</button>
</template>
