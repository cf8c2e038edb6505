<script setup lang="ts">
import { MoonIcon, SunIcon } from '@heroicons/vue/24/outline'
import { theme, turnTheme } from '../composables/theme'
import { useSession } from '../session'

defineEmits<{ help: [] }>()
const session = useSession()
</script>

<template>
  <header class="border-b border-rule bg-paper">
    <div class="wing h-1"></div>
    <nav aria-label="Main" class="mx-auto flex max-w-[1500px] flex-wrap items-center gap-x-4 gap-y-1 px-3 py-2 sm:px-5">
      <RouterLink to="/" class="flex items-center gap-2 font-semibold text-ink no-underline">
        <img src="/favicon.svg" alt="" class="size-5" />Steady Magpie
      </RouterLink>
      <RouterLink to="/" class="bar">Fleet</RouterLink>
      <RouterLink to="/compare" class="bar">Compare</RouterLink>
      <RouterLink to="/snapshots" class="bar">Snapshots</RouterLink>
      <RouterLink to="/jobs" class="bar">Jobs</RouterLink>
      <span class="grow"></span>
      <span class="hidden text-faded sm:inline"
        >{{ session.me?.user }} <span v-if="session.me?.user !== session.me?.role">({{ session.me?.role }})</span></span
      >
      <button type="button" class="bar" aria-label="List the keys" @click="$emit('help')"><kbd>?</kbd></button>
      <button type="button" class="bar" :aria-label="theme === 'dark' ? 'Turn light' : 'Turn dark'" @click="turnTheme">
        <SunIcon v-if="theme === 'dark'" class="size-5" /><MoonIcon v-else class="size-5" />
      </button>
      <button type="button" class="bar" @click="session.signOut()">Sign out</button>
    </nav>
  </header>
</template>

<style scoped>
@reference '../style.css';
.bar {
  @apply cursor-pointer rounded px-1 py-1 font-medium text-ink no-underline hover:text-teal;
}
.bar.router-link-exact-active {
  @apply text-teal underline decoration-2 underline-offset-8;
}
</style>
