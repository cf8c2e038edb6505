<script setup lang="ts">
import { useNow } from '@vueuse/core'
import { computed } from 'vue'
import type { Job } from '../api/call'
import { useSession } from '../session'

// What is being done to a device right now, and by whom.
const props = defineProps<{ jobs: Job[] }>()
const session = useSession()
const clock = useNow({ interval: 1000 })
const open = computed(() => props.jobs.filter((j) => j.state !== 'ended'))
function left(j: Job): string {
  if (!j.due) return ''
  const s = Math.max(0, Math.ceil((new Date(j.due).getTime() - clock.value.getTime()) / 1000))
  return `${Math.floor(s / 60)}:${String(s % 60).padStart(2, '0')}`
}
const does: Record<string, string> = {
  pull: 'is pulling',
  push: 'is pushing',
  preview: 'is looking at a preview',
  planned: 'has planned a push',
}
const who = (j: Job) => (j.actor === session.me?.user ? 'you' : j.actor)
const verb = (j: Job) =>
  who(j) === 'you'
    ? (does[j.kind] ?? `is at a ${j.kind}`).replace(/^is /, 'are ').replace(/^has /, 'have ')
    : (does[j.kind] ?? `is at a ${j.kind}`)
</script>

<template>
  <p v-for="j in open" :key="j.id" role="status" class="mb-2 rounded border border-violet px-3 py-1.5">
    <b>{{ who(j) }}</b> {{ verb(j)
    }}<template v-if="j.state === 'waiting'"
      >, waits{{ j.awaits ? ` for ${j.awaits === 'confirm' ? 'it to be confirmed' : j.awaits}` : '' }} {{ left(j) }}</template
    ><template v-else-if="j.state === 'queued'">, in the queue</template>
    <RouterLink class="ml-2" :to="'/jobs/' + j.id">look</RouterLink>
  </p>
</template>
