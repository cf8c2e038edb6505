<script setup lang="ts">
import { computed } from 'vue'
import { ago, now, when, zone } from '../composables/time'

// A time: how long ago, or the moment itself, with the other and the zone at hand.
const props = defineProps<{ at?: string | null; exact?: boolean; never?: string }>()
const relative = computed(() => (void now.value, ago(props.at ?? undefined)))
const moment = computed(() => when(props.at ?? undefined))
</script>

<template>
  <time v-if="at" :datetime="at" class="whitespace-nowrap tabular-nums" :title="exact ? `${relative}, ${zone}` : `${moment} ${zone}`">{{
    exact ? moment : relative
  }}</time>
  <span v-else class="text-faded">{{ never ?? 'never' }}</span>
</template>
