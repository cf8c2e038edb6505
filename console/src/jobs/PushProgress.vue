<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'
import { get, type Entry, type Job, type Preview } from '../api/call'
import StepBar from '../push/StepBar.vue'
import StepList from '../push/StepList.vue'

// A push under way: its lines are ticked as they are sent.
const props = defineProps<{ job: Job; log: Entry[] }>()
const { data: p } = useQuery({
  key: () => ['preview', props.job.preview ?? ''],
  query: () => get<Preview>('/previews/' + props.job.preview),
  enabled: () => !!props.job.preview,
})
const over = computed(() => props.job.state === 'ended')
const sent = computed(() => Math.min(props.log.filter((e) => e.kind === 'line').length, p.value?.steps.length ?? 0))
const proving = computed(() => over.value || props.job.state === 'waiting')
</script>

<template>
  <div>
    <StepBar :at="proving ? 3 : 2" :to="[undefined, job.preview ? '/push/' + job.preview : undefined]" />
    <template v-if="p?.steps.length && !over">
      <div class="mb-1 flex items-center gap-3">
        <progress class="h-1.5 grow accent-violet" :max="p.steps.length" :value="sent" aria-label="Lines sent"></progress>
        <span class="text-faded">{{ sent }} of {{ p.steps.length }} sent</span>
      </div>
      <StepList :preview="p" :sent="sent" :refused="job.push?.refused?.line" />
    </template>
  </div>
</template>
