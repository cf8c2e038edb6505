<script setup lang="ts">
import type { Job } from '../api/call'
import { when, zone } from '../composables/time'

// When a planned push is to be done, and what came of asking for it.
const props = defineProps<{ job: Job }>()
const there = (t: string) =>
  new Intl.DateTimeFormat('sv-SE', { dateStyle: 'short', timeStyle: 'short', timeZone: props.job.plan!.zone }).format(new Date(t)) +
  ' ' +
  props.job.plan!.zone
</script>

<template>
  <dl v-if="job.plan" class="card mb-4 grid grid-cols-[auto_1fr] gap-x-3 gap-y-1 p-3">
    <dt class="text-faded">begins</dt>
    <dd>
      {{ there(job.plan.from) }}<span v-if="job.plan.zone !== zone" class="text-faded">, {{ when(job.plan.from) }} {{ zone }}</span>
    </dd>
    <dt class="text-faded">or not after</dt>
    <dd>{{ there(job.plan.until) }}</dd>
    <template v-if="job.plan.rule"
      ><dt class="text-faded">second person</dt>
      <dd>asked for by the rule {{ job.plan.rule }}</dd></template
    >
    <template v-if="job.plan.approved"
      ><dt class="text-faded">approved by</dt>
      <dd>{{ job.plan.approved }}</dd></template
    >
    <template v-if="job.plan.changed"
      ><dt class="text-faded">changed</dt>
      <dd>at its time something else would have been sent than was planned</dd></template
    >
    <dt class="text-faded">would send</dt>
    <dd><RouterLink :to="'/push/' + job.plan.preview">what the preview shows</RouterLink></dd>
    <template v-if="job.plan.push"
      ><dt class="text-faded">push</dt>
      <dd>
        <RouterLink :to="'/jobs/' + job.plan.push">{{ job.plan.push }}</RouterLink>
      </dd></template
    >
  </dl>
</template>
