<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { useRouter, type RouteLocationRaw } from 'vue-router'

// Deeds that are wanted less often, behind one button.
export interface Deed {
  label: string
  run?: () => unknown
  to?: RouteLocationRaw
  danger?: boolean
  off?: boolean
}
defineProps<{ label: string; deeds: Deed[]; small?: boolean; icon?: boolean }>()
const router = useRouter()
const done = (d: Deed) => (d.to ? void router.push(d.to) : void d.run?.())
</script>

<template>
  <Menu v-if="deeds.length" as="div" class="relative">
    <MenuButton :class="icon ? 'icon-button' : ['button', small && 'is-small']" :aria-label="icon ? label : undefined">
      <template v-if="icon">⋯</template><template v-else>{{ label }} <span aria-hidden="true">▾</span></template>
    </MenuButton>
    <MenuItems class="card absolute right-0 z-30 mt-1 grid max-h-[70dvh] min-w-48 overflow-auto py-1 shadow-lg focus:outline-none">
      <MenuItem v-for="d in deeds" :key="d.label" v-slot="{ active }" :disabled="d.off">
        <button
          type="button"
          class="cursor-pointer px-3 py-1.5 text-left whitespace-nowrap disabled:cursor-not-allowed disabled:text-faded"
          :class="[active ? 'bg-leaf' : '', d.danger ? 'text-alarm' : '']"
          @click="done(d)"
        >
          {{ d.label }}
        </button>
      </MenuItem>
    </MenuItems>
  </Menu>
</template>
