<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/call'
import TimeMark from '../design/TimeMark.vue'

// What a search found, by the version it is in and the blocks around it.
type Found = Schemas['Found']
const props = defineProps<{ found: Found[]; mark: string }>()
const groups = computed(() => {
  const out: { ref: string; device: string; taken: string; hits: Found[] }[] = []
  for (const f of props.found) {
    if (out.at(-1)?.ref !== f.ref) out.push({ ref: f.ref, device: f.device, taken: f.taken_at, hits: [] })
    out.at(-1)!.hits.push(f)
  }
  return out
})
const pieces = (text: string) => {
  const at = props.mark ? text.indexOf(props.mark) : -1
  return at < 0 ? [text, '', ''] : [text.slice(0, at), props.mark, text.slice(at + props.mark.length)]
}
</script>

<template>
  <section v-for="g in groups" :key="g.ref" class="card mb-2 overflow-hidden">
    <h2 class="flex flex-wrap items-baseline gap-x-3 border-b border-rule px-3 py-1.5 text-base">
      <RouterLink :to="'/devices/' + g.device">{{ g.device }}</RouterLink>
      <RouterLink class="text-sm font-normal" :to="'/version?ref=' + g.ref">{{ g.ref }}</RouterLink>
      <span class="text-sm font-normal text-faded">taken <TimeMark :at="g.taken" /></span>
    </h2>
    <ul>
      <li v-for="f in g.hits" :key="f.line" class="hit">
        <RouterLink
          class="mono min-h-6 text-right text-faded"
          :aria-label="`line ${f.line} of ${f.ref}`"
          :to="`/version?ref=${f.ref}#L${f.line}`"
          >{{ f.line }}</RouterLink
        >
        <span class="truncate text-sm text-faded" :title="f.path">{{ f.path }}</span>
        <code class="col-start-2 break-words whitespace-pre-wrap sm:col-start-auto"
          >{{ pieces(f.text.trim())[0] }}<mark class="found">{{ pieces(f.text.trim())[1] }}</mark
          >{{ pieces(f.text.trim())[2] }}</code
        >
        <span v-if="f.origin" class="col-start-2 text-sm whitespace-nowrap text-faded sm:col-start-auto"
          ><template v-if="f.origin.first"><TimeMark :at="f.origin.taken_at" /> or before</template
          ><template v-else>since <TimeMark :at="f.origin.taken_at" />{{ f.origin.author ? ', ' + f.origin.author : '' }}</template></span
        >
      </li>
    </ul>
  </section>
</template>

<style scoped>
@reference '../style.css';
.hit {
  @apply grid grid-cols-[2.75rem_1fr] items-baseline gap-x-2 px-3 py-0.5 hover:bg-marked;
  @apply sm:grid-cols-[2.75rem_minmax(0,14rem)_minmax(0,1fr)_auto];
}
</style>
