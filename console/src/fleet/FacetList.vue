<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Device } from '../api/call'
import StateMark from '../design/StateMark.vue'
import { dashed, picks, read, toggle, valuesOf, type Key } from '../selector'

// What the devices have in common, with how many there are of each: a click narrows the
// choice to it, another takes that back.
const props = defineProps<{ devices: Device[]; order: string[] }>()
const text = defineModel<string>({ required: true })
const facets: { key: Key; label: string }[] = [
  { key: 'state', label: 'State' },
  { key: 'site', label: 'Site' },
  { key: 'kind', label: 'Kind' },
  { key: 'model', label: 'Model' },
  { key: 'release', label: 'Release' },
  { key: 'tag', label: 'Tag' },
  { key: 'dialect', label: 'Dialect' },
]
const whole = ref<string[]>([]) // facets that are shown whole
const FEW = 7

const counted = computed(() => {
  const c = read(text.value)
  return facets.map((f) => {
    const n = new Map<string, number>()
    for (const d of props.devices) if (picks(c, d, f.key)) for (const v of valuesOf(d, f.key)) if (v) n.set(v, (n.get(v) ?? 0) + 1)
    const chosen = c.terms.get(f.key) ?? []
    for (const v of chosen) if (!n.has(v)) n.set(v, 0)
    const states = props.order.map(dashed)
    const all = [...n].sort((a, b) =>
      f.key === 'state' ? states.indexOf(a[0]) - states.indexOf(b[0]) : b[1] - a[1] || (a[0] < b[0] ? -1 : 1),
    )
    return { ...f, all, chosen }
  })
})
const wordOf = (v: string) => props.order.find((s) => dashed(s) === v) ?? v
</script>

<template>
  <div class="grid content-start gap-3" aria-label="Narrow the choice">
    <section v-for="f in counted.filter((x) => x.all.length > 1 || x.chosen.length)" :key="f.key">
      <h2 class="mb-0.5 text-xs text-faded">{{ f.label }}</h2>
      <button
        v-for="[v, n] in whole.includes(f.key) ? f.all : f.all.slice(0, FEW)"
        :key="v"
        type="button"
        class="flex min-h-6 w-full cursor-pointer items-center gap-2 rounded px-1 text-left hover:bg-leaf aria-pressed:bg-marked"
        :aria-pressed="f.chosen.includes(v)"
        @click="text = toggle(text, f.key, v)"
      >
        <span class="min-w-0 grow truncate"
          ><StateMark v-if="f.key === 'state'" :state="wordOf(v)" /><template v-else>{{ v }}</template></span
        ><span class="text-faded tabular-nums">{{ n }}</span>
      </button>
      <button v-if="f.all.length > FEW && !whole.includes(f.key)" type="button" class="link px-1 text-xs" @click="whole.push(f.key)">
        {{ f.all.length - FEW }} more
      </button>
    </section>
  </div>
</template>
