<script setup lang="ts">
import type { Job } from '../api/call'

// How a restore test went: the push there, and what ran before put back.
defineProps<{ test: NonNullable<Job['restore_test']>; over: boolean }>()
</script>

<template>
  <p class="card p-3">
    {{ test.ref }} on {{ test.on }}:
    <template v-if="test.push"
      ><RouterLink :to="'/jobs/' + test.push">the push there</RouterLink>,
      {{ test.proved ? 'proved' : over ? 'not proved' : 'under way' }}</template
    ><template v-if="test.back"
      >; <RouterLink :to="'/jobs/' + test.back">what ran there before</RouterLink>,
      {{ test.whole ? 'back' : over ? 'not back' : 'under way' }}</template
    >
  </p>
</template>
