<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink, type RouteLocationRaw } from 'vue-router'

// A button, or a link that looks like one. One deed of a page is the main one.
const props = defineProps<{ main?: boolean; danger?: boolean; small?: boolean; to?: RouteLocationRaw; submit?: boolean; busy?: boolean }>()
const look = computed(() => [props.main ? 'button-main' : 'button', props.danger && 'is-danger', props.small && 'is-small'])
</script>

<template>
  <RouterLink v-if="to" :to="to" :class="look"><slot /></RouterLink>
  <button v-else :type="submit ? 'submit' : 'button'" :class="look" :disabled="busy" :aria-busy="busy || undefined"><slot /></button>
</template>
