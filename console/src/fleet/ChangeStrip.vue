<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { listAll, query, type Version } from '../api/call'
import { now, when, zone } from '../composables/time'
import SideDrawer from '../design/SideDrawer.vue'
import ChangeList from './ChangeList.vue'
import { serverNow } from '../api/clock'

// When the fleet changed in the last days: an hour is a bar, as tall as so many devices
// changed in it. A click lists them.
const props = defineProps<{ chosen: Set<string> }>()
const DAYS = 7
const HOUR = 3600_000
const { data } = useQuery({
  key: ['changes', DAYS],
  query: () => listAll<Version>('/changes' + query({ since: new Date(serverNow() - DAYS * 24 * HOUR).toISOString(), limit: 1000 })),
})
const end = computed(() => Math.ceil(now.value / HOUR) * HOUR)
const start = computed(() => end.value - DAYS * 24 * HOUR)
const hours = computed(() => {
  const all = new Map<number, Version[]>()
  for (const v of data.value ?? []) {
    if (v.number < 2 || v.excluded || !props.chosen.has(v.device)) continue
    const h = Math.floor((new Date(v.taken_at).getTime() - start.value) / HOUR)
    all.get(h)?.push(v) ?? all.set(h, [v])
  }
  return all
})
const total = computed(() => [...hours.value.values()].reduce((n, v) => n + v.length, 0))
const most = computed(() => Math.log1p(Math.max(1, ...[...hours.value.values()].map((v) => v.length))))
const days = computed(() =>
  Array.from({ length: DAYS }, (_, i) => new Date(new Date(end.value).setHours(0, 0, 0, 0) - (DAYS - 1 - i) * 24 * HOUR)).map((d) => ({
    x: (d.getTime() - start.value) / HOUR,
    label: d.toLocaleDateString('en-GB', { weekday: 'short', day: 'numeric' }),
  })),
)
const open = ref<number | 'all'>() // an hour, or all of them
const opened = computed(() =>
  open.value === 'all'
    ? { title: `Changes of the last ${DAYS} days`, versions: [...hours.value.values()].flat() }
    : { title: label(open.value!), versions: hours.value.get(open.value!) ?? [] },
)
const label = (h: number) =>
  `${hours.value.get(h)?.length ?? 0} changed in the hour from ${when(new Date(start.value + h * HOUR).toISOString())}`
</script>

<template>
  <figure class="card px-3 pt-1.5 pb-1">
    <figcaption class="flex flex-wrap gap-x-2 text-xs">
      <span class="font-semibold">Changes of the last {{ DAYS }} days</span>
      <button v-if="total" type="button" class="link" @click="open = 'all'">{{ total }} of them</button>
      <span class="text-faded">{{ total ? '' : 'none; ' }}by the hour, {{ zone }}</span>
    </figcaption>
    <div class="relative h-9" role="group" aria-label="Changes by the hour">
      <span
        v-for="d in days"
        :key="d.x"
        class="absolute inset-y-0 border-l border-rule"
        :style="{ left: (d.x / (DAYS * 24)) * 100 + '%' }"
      ></span>
      <button
        v-for="[h, vs] in hours"
        :key="h"
        type="button"
        class="absolute bottom-0 min-w-1.5 cursor-pointer rounded-t-xs bg-teal hover:bg-violet"
        :style="{
          left: (h / (DAYS * 24)) * 100 + '%',
          width: 100 / (DAYS * 24) + '%',
          height: 25 + 75 * (Math.log1p(vs.length) / most) + '%',
        }"
        :aria-label="label(h)"
        :title="label(h)"
        @click="open = h"
      ></button>
    </div>
    <div class="relative h-4 overflow-hidden text-xs text-faded" aria-hidden="true">
      <span
        v-for="d in days.filter((x) => x.x < DAYS * 24 - 8)"
        :key="d.x"
        class="absolute pl-1 whitespace-nowrap"
        :style="{ left: (d.x / (DAYS * 24)) * 100 + '%' }"
        >{{ d.label }}</span
      >
    </div>
    <SideDrawer v-if="open !== undefined" :title="opened.title" @close="open = undefined"
      ><ChangeList :versions="opened.versions"
    /></SideDrawer>
  </figure>
</template>
