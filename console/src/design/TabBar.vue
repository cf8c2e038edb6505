<script setup lang="ts">
import { Tab, TabGroup, TabList, TabPanel, TabPanels } from '@headlessui/vue'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

// Tabs whose choice stands in the page's address, so that it can be sent to somebody.
// Each tab's content is a slot of its name.
export interface TabOf {
  name: string
  label: string
  count?: number
}
const props = defineProps<{ tabs: TabOf[]; word?: string; label: string }>()
const route = useRoute()
const router = useRouter()
const word = computed(() => props.word ?? 'tab')
const at = computed(() =>
  Math.max(
    props.tabs.findIndex((t) => t.name === route.query[word.value]),
    0,
  ),
)
const turn = (i: number) => void router.replace({ query: { ...route.query, [word.value]: i ? props.tabs[i].name : undefined } })
// The chosen tab is in sight, however narrow the window.
const list = ref<HTMLElement>()
const show = () => list.value?.querySelector('[aria-selected=true]')?.scrollIntoView({ block: 'nearest', inline: 'nearest' })
onMounted(show)
watch(at, show, { flush: 'post' })
</script>

<template>
  <TabGroup :selected-index="at" @change="turn">
    <div ref="list" class="mb-3 flex flex-wrap items-center gap-2 border-b border-rule">
      <TabList class="flex min-w-0 grow gap-1 overflow-x-auto" :aria-label="label">
        <Tab v-for="t in tabs" :key="t.name" class="tab">
          {{ t.label }}<span v-if="t.count !== undefined" class="ml-1 text-faded">{{ t.count }}</span>
        </Tab>
      </TabList>
      <slot name="beside" />
    </div>
    <TabPanels>
      <TabPanel v-for="t in tabs" :key="t.name" :unmount="true" tabindex="-1"><slot :name="t.name" /></TabPanel>
    </TabPanels>
  </TabGroup>
</template>
