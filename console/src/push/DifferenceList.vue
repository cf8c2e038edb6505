<script setup lang="ts">
import type { Difference } from '../api/call'
import { useSome } from '../composables/some'

// Lines that differ: − is missing, + should not be there.
const props = defineProps<{ differences: Difference[] }>()
const { some, rest, more } = useSome(() => props.differences, 200)
</script>

<template>
  <ul class="overflow-x-auto rounded border border-rule font-mono text-[13px]">
    <li v-for="(r, i) in some" :key="i">
      <p v-if="r.block && r.block !== some[i - 1]?.block" class="bg-leaf px-2 py-0.5 text-faded">in {{ r.block }}</p>
      <template v-if="r.order"
        ><p class="px-2">{{ r.have }} stands where {{ r.want }} should</p></template
      >
      <template v-else>
        <p v-if="r.want" class="bg-gone px-2 text-gone-ink whitespace-pre">
          <span aria-label="missing">−</span> {{ r.want }}<span v-if="r.rule" class="chip ml-2">rule {{ r.rule }}</span>
        </p>
        <p v-if="r.have" class="bg-added px-2 text-added-ink whitespace-pre">
          <span aria-label="extra">+</span> {{ r.have }}<span v-if="r.rule" class="chip ml-2">rule {{ r.rule }}</span>
        </p>
      </template>
    </li>
    <li v-if="rest">
      <button type="button" class="button m-2" @click="more">{{ rest }} more</button>
    </li>
  </ul>
</template>
