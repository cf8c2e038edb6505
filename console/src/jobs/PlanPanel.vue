<script setup lang="ts">
import { computed } from 'vue'
import type { Job } from '../api/call'
import { when, zone } from '../composables/time'
import FactList from '../design/FactList.vue'

// When a planned push is to be done, and what came of asking for it.
const props = defineProps<{ plan: NonNullable<Job['plan']> }>()
const there = (t: string) =>
  new Intl.DateTimeFormat('sv-SE', { dateStyle: 'short', timeStyle: 'short', timeZone: props.plan.zone }).format(new Date(t)) +
  ' ' +
  props.plan.zone
const facts = computed(() => {
  const p = props.plan
  return [
    { word: 'begins', says: there(p.from) + (p.zone === zone ? '' : `, ${when(p.from)} ${zone}`) },
    { word: 'or not after', says: there(p.until) },
    { word: 'second person', says: p.rule && 'asked for by the rule ' + p.rule },
    { word: 'approved by', says: p.approved },
    { word: 'changed', says: p.changed ? 'at its time something else would have been sent than was planned' : '' },
    { word: 'would send', says: 'what the preview shows', to: '/push/' + p.preview },
    { word: 'push', says: p.push, to: '/jobs/' + p.push },
  ]
})
</script>

<template>
  <FactList :facts="facts" />
</template>
