<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/call'
import { when } from '../composables/time'

// Lines as long as they were there, by the part and the blocks they stood in.
type Past = Schemas['Past']
const props = defineProps<{ found: Past[] }>()
const parts = computed(() => {
  const out: { name: string; items: Past[] }[] = []
  for (const p of props.found) {
    const name = p.part === 'running' ? p.device : `${p.device}/${p.part}`
    if (out.at(-1)?.name !== name) out.push({ name, items: [] })
    out.at(-1)!.items.push(p)
  }
  return out
})
const by = (o: Schemas['Origin']) => (o.author ? ` by ${o.author}` : '')
</script>

<template>
  <section v-for="part in parts" :key="part.name" class="card mb-2 overflow-hidden" :aria-label="part.name">
    <h2 class="border-b border-rule px-3 py-1.5 text-base">
      <RouterLink :to="'/devices/' + part.items[0].device">{{ part.name }}</RouterLink>
    </h2>
    <ul class="pb-1">
      <li v-for="(p, i) in part.items" :key="i">
        <p v-if="p.path && p.path !== part.items[i - 1]?.path" class="px-3 pt-1 text-sm text-faded">in {{ p.path }}</p>
        <p class="flex flex-wrap items-baseline gap-x-3 px-3">
          <code class="break-words whitespace-pre-wrap" :class="p.gone ? 'text-gone-ink' : ''">{{ p.text }}</code>
          <span class="text-sm text-faded">
            since <RouterLink :to="`/version?ref=${p.from.ref}`">{{ when(p.from.taken_at) }}</RouterLink>{{
              p.from.first ? ' or earlier' : by(p.from)
            }}
            <template v-if="p.gone">
              until <RouterLink :to="`/compare?from=${p.last}&to=${p.gone.ref}`">{{ when(p.gone.taken_at) }}</RouterLink>{{ by(p.gone) }}
            </template>
          </span>
        </p>
      </li>
    </ul>
  </section>
</template>
