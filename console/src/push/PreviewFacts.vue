<script setup lang="ts">
import { computed } from 'vue'
import type { Preview } from '../api/call'
import FactList, { type Fact } from '../design/FactList.vue'

// What is pushed, to which unit, and how.
const props = defineProps<{ preview: Preview; may: boolean }>()
const methods: Record<string, string> = {
  merge: 'leaving other lines',
  upload: 'the file as it was pulled',
  stage: 'writing startup and restarting into it',
}
const facts = computed<Fact[]>(() => {
  const p = props.preview
  const factory = p.factory ? ', with factory settings' : ''
  return [
    ...(p.swap
      ? [
          { word: 'new unit', says: `serial ${p.swap.new_serial}, ${p.swap.new_model}, release ${p.swap.new_release}${factory}` },
          { word: 'in place of', says: `serial ${p.swap.old_serials.join(' or ')}, ${p.swap.old_model}` },
        ]
      : [{ word: 'device', says: `${p.device}, serial ${p.serial}${factory}` }]),
    { word: 'spoken to', says: [p.at && `at ${p.at} for now`, p.relay && `through relay ${p.relay}`].filter(Boolean).join(' ') },
    { word: 'runs now', says: p.base, to: p.base.includes('@') ? '/version?ref=' + p.base : undefined },
    { word: 'method' },
  ]
})
const others = computed(() => props.preview.methods.filter((m) => m !== props.preview.method))
const again = (method: string) => ({
  path: '/push',
  query: { ref: props.preview.target.split(',')[0], to: props.preview.device, method },
})
const offer = computed(() => {
  const p = props.preview
  return props.may && p.steps.length && !p.swap && !p.undo_of && !p.only?.length
})
</script>

<template>
  <FactList :facts="facts">
    <template #method>
      {{ preview.method }}, {{ methods[preview.method] ?? 'to end equivalent to the version' }}
      <template v-if="offer"
        ><template v-for="m in others" :key="m">
          · <RouterLink :to="again(m)">{{ m }} instead</RouterLink></template
        ></template
      >
    </template>
  </FactList>
</template>
