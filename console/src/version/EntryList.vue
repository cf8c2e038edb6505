<script setup lang="ts">
import { computed } from 'vue'
import type { Diff } from '../api/call'
import { useSome } from '../composables/some'

// A comparison as what became of its entries, by the blocks that they stand in.
const props = defineProps<{ diff: Diff; low?: boolean }>()
type Change = Diff['changes'][number]
const { some, rest, more } = useSome(() => props.diff.changes, 400)
const groups = computed(() => {
  const out: { path: string; changes: Change[] }[] = []
  for (const c of some.value) {
    const path = c.path ?? ''
    if (out.at(-1)?.path !== path) out.push({ path, changes: [] })
    out.at(-1)!.changes.push(c)
  }
  return out
})
const below = (c: Change) =>
  c.more && c.kind !== 'changed'
    ? `with ${c.more} ${c.more === 1 ? 'line' : 'lines'} below it${c.kind === 'renamed' ? ' the same' : ''}`
    : ''
const sides = (c: Change) => [
  { text: c.kind === 'moved' ? '' : (c.from ?? ''), line: c.from_line, ref: props.diff.from, came: false },
  { text: c.to ?? '', line: c.to_line, ref: props.diff.to, came: true },
]
</script>

<template>
  <div class="card overflow-auto" :class="low ? 'max-h-[50dvh]' : ''" role="region" aria-label="Entries" tabindex="0">
    <div class="flex flex-wrap items-center gap-2 border-b border-rule bg-leaf px-2 py-1">
      <span class="grow text-faded">{{ diff.changes.length }} {{ diff.changes.length === 1 ? 'entry' : 'entries' }}</span>
      <slot name="deeds" />
    </div>
    <p v-if="!diff.changes.length" class="px-3 py-2 text-faded">
      Entries cannot be told apart here: no dialect reads both, or they are to be the same byte for byte.
    </p>
    <section v-for="(g, i) in groups" :key="i" class="border-rule px-3 py-1.5 not-first:border-t">
      <h2 class="mono text-sm">{{ g.path ? 'in ' + g.path : 'at the top' }}</h2>
      <div v-for="(c, k) in g.changes" :key="k" class="grid grid-cols-[5rem_minmax(0,1fr)] items-baseline gap-x-2 py-0.5">
        <span class="text-faded">{{ c.kind }}</span>
        <div class="grid gap-px">
          <template v-for="s in sides(c)" :key="String(s.came)">
            <p
              v-if="s.text"
              class="mono break-words whitespace-pre-wrap"
              :class="c.kind === 'moved' ? '' : s.came ? 'bg-added' : 'bg-gone'"
            >
              <span class="sr-only">{{ c.kind === 'moved' ? '' : s.came ? 'is: ' : 'was: ' }}</span><RouterLink
                v-if="s.line"
                class="text-inherit no-underline hover:underline"
                :to="`/version?ref=${s.ref}#L${s.line}`"
                >{{ s.text }}</RouterLink
              ><template v-else>{{ s.text }} <span class="text-faded">by default</span></template>
            </p>
          </template>
          <p v-if="c.kind === 'moved'" class="text-sm text-faded">{{ c.near ? 'behind ' + c.near : 'to the beginning' }}</p>
          <p v-if="below(c)" class="text-sm text-faded">{{ below(c) }}</p>
        </div>
      </div>
    </section>
    <button v-if="rest" type="button" class="button m-2" @click="more">{{ rest }} more</button>
  </div>
</template>
