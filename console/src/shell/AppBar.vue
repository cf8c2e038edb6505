<script setup lang="ts">
import { MagnifyingGlassIcon, MoonIcon, SunIcon } from '@heroicons/vue/24/outline'
import { computed, watch } from 'vue'
import { useRouter } from 'vue-router'
import { theme, turnTheme } from '../composables/theme'
import { useAttempt } from '../composables/attempt'
import ActionMenu from '../design/ActionMenu.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { away, connected } from '../live'
import { useSession } from '../session'
import { places } from './places'
import WaitingJobs from './WaitingJobs.vue'

// Where one can go, on every page. On a phone it is one button.
const emit = defineEmits<{ help: []; find: [] }>()
const session = useSession()
const router = useRouter()
const { trouble, attempt } = useAttempt()
const signOut = () =>
  session.signOut().catch((e: Error) => {
    throw new Error(`You are still signed in: ${e.message}.`)
  })
watch(
  () => router.currentRoute.value.path,
  () => (trouble.value = undefined),
)
const person = computed(() => [
  { label: 'Settings', run: () => router.push('/settings') },
  { label: theme.value === 'dark' ? 'Turn light' : 'Turn dark', run: turnTheme },
  { label: 'List the keys', run: () => emit('help') },
  { label: 'Sign out', run: () => attempt(signOut) },
])
const all = computed(() => [...places.map((p) => ({ label: p.label, to: p.to })), ...person.value])
</script>

<template>
  <header class="sticky top-0 z-30 border-b border-rule bg-paper">
    <div class="wing h-1"></div>
    <a href="#main" class="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-paper focus:p-2">Skip to the page</a>
    <nav aria-label="Main" class="mx-auto flex max-w-[1800px] items-center gap-x-3 px-3 py-1.5 sm:px-5">
      <RouterLink to="/" aria-label="Steady Magpie" class="flex items-center gap-2 font-semibold whitespace-nowrap text-ink no-underline">
        <img src="/favicon.svg" alt="" class="size-5" /><span class="md:hidden lg:inline">Steady Magpie</span>
      </RouterLink>
      <span class="hidden items-center gap-x-0.5 md:flex lg:gap-x-3">
        <RouterLink v-for="p in places" :key="p.to" :to="p.to" class="bar">{{ p.label }}</RouterLink>
      </span>
      <span class="grow"></span>
      <span v-if="away || !connected" class="chip border-alarm text-alarm" role="status">{{
        away ? 'database away' : 'not connected'
      }}</span>
      <WaitingJobs />
      <button type="button" class="button is-small text-faded" aria-label="Find anything" @click="emit('find')">
        <MagnifyingGlassIcon class="size-4" /><span class="hidden lg:inline">Find anything</span>
        <kbd class="hidden lg:inline">Ctrl K</kbd>
      </button>
      <button type="button" class="icon-button hidden md:grid" aria-label="List the keys" @click="emit('help')"><kbd>?</kbd></button>
      <button
        type="button"
        class="icon-button hidden md:grid"
        :aria-label="theme === 'dark' ? 'Turn light' : 'Turn dark'"
        @click="turnTheme"
      >
        <SunIcon v-if="theme === 'dark'" class="size-5" /><MoonIcon v-else class="size-5" />
      </button>
      <span class="hidden md:block"><ActionMenu :label="session.me?.user ?? ''" small :deeds="person" /></span>
      <span class="md:hidden"><ActionMenu icon label="Go to" :deeds="all" /></span>
    </nav>
    <ProblemNote :error="trouble" class="mx-3 mb-2 sm:mx-5" />
  </header>
</template>

<style scoped>
@reference '../style.css';
.bar {
  @apply rounded px-0.5 py-1 font-medium lg:px-1 text-ink no-underline hover:text-teal;
}
.bar.router-link-active:not([href='/']),
.bar.router-link-exact-active {
  @apply text-teal underline decoration-2 underline-offset-8;
}
</style>
