<script setup lang="ts">
import { computed } from 'vue'
import { when, zone } from '../composables/time'
import StateMark from '../design/StateMark.vue'
import { entries, type Item } from './tide'

// A day's agenda: what was done and how it went, and what is to come.
const props = defineProps<{ items: Item[] }>()
const all = computed(() => entries(props.items))
</script>

<template>
  <ol class="card max-h-96 divide-y divide-rule overflow-auto" tabindex="0" :aria-label="'Agenda, in ' + zone">
    <li v-for="e in all" :key="e.item.at + e.item.schedule" class="grid grid-cols-[3rem_minmax(0,1fr)] gap-x-2 px-3 py-1.5">
      <span class="text-faded tabular-nums">{{ when(e.item.at).slice(11) }}</span>
      <span class="flex flex-wrap items-baseline gap-x-2">
        <RouterLink v-if="e.item.job" :to="'/jobs/' + e.item.job" class="font-semibold">{{ e.item.schedule }}</RouterLink><b v-else>{{
          e.item.schedule
        }}</b>
        <StateMark :state="e.item.state" />
        <span class="text-faded"
          >{{ e.item.does }} of {{ e.item.devices }} {{ e.item.devices === 1 ? 'device' : 'devices'
          }}{{ e.times > 1 ? `, ${e.times} times that day` : '' }}</span
        >
      </span>
      <span v-if="e.item.summary" class="col-start-2 text-faded">{{ e.item.summary }}</span>
    </li>
    <li v-if="!all.length" class="px-3 py-6 text-center text-faded">Nothing that day.</li>
  </ol>
</template>
