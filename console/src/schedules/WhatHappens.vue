<script setup lang="ts">
import type { Schemas } from '../api/call'
import { when, zone } from '../composables/time'

// What a schedule will do, before it is kept: its next times, there and here, what clocks
// do to it, and who does the same.
defineProps<{ schedule: Schemas['Schedule'] }>()
</script>

<template>
  <section class="grid content-start gap-2" aria-label="What will happen" aria-live="polite">
    <h2>What will happen</h2>
    <p>
      {{ schedule.devices }} {{ schedule.devices === 1 ? 'device' : 'devices' }} now, due next
      <span class="text-faded">(there, and in {{ zone }})</span>
    </p>
    <ol class="card divide-y divide-rule">
      <li v-for="n in schedule.next" :key="n.at" class="flex flex-wrap justify-between gap-x-3 px-3 py-1">
        <span>{{ n.local }}</span><span v-if="!n.local.includes(when(n.at))" class="text-faded">{{ when(n.at) }}</span
        ><span v-if="n.left_out" class="text-gone-ink">{{ n.left_out }}</span>
      </li>
    </ol>
    <p v-for="c in schedule.clocks" :key="c"><span class="text-faded">Clocks:</span> {{ c }}</p>
    <p v-for="s in schedule.same" :key="s" class="note"><b>Note:</b> {{ s }}</p>
  </section>
</template>
