<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import EmptyNote from '../design/EmptyNote.vue'
import CompareView from '../version/CompareView.vue'
import RefField from '../version/RefField.vue'

// Any two versions, beside each other.
const route = useRoute()
const router = useRouter()
const from = computed(() => String(route.query.from ?? ''))
const to = computed(() => String(route.query.to ?? ''))
const typed = ref({ from: from.value, to: to.value })
watch([from, to], () => (typed.value = { from: from.value, to: to.value }))
const go = () => void router.replace({ query: { from: typed.value.from.trim(), to: typed.value.to.trim() } })
</script>

<template>
  <AppForm class="mb-3" @send="go">
    <div class="flex flex-wrap items-end gap-2">
      <h1 class="mr-2 pb-1">Compare</h1>
      <RefField v-model="typed.from" label="from" name="from" placeholder="skerrinsay-r1@baseline" />
      <RefField v-model="typed.to" label="to" name="to" placeholder="skerrinsay-r1@live" />
      <AppButton main submit>Compare</AppButton>
      <AppButton @click="router.replace({ query: { from: to, to: from } })">Swap</AppButton>
    </div>
  </AppForm>
  <EmptyNote v-if="!from || !to" title="Name two versions">
    A device with a number, a name, a time, or one of latest, previous, baseline, live; like <code>skerrinsay-r1@2026-11-20T10:00Z</code>.
    On a device's page two blocks of its timeline can be picked.
  </EmptyNote>
  <CompareView v-else :key="from + ' ' + to" :from="from" :to="to" style="--above: 15rem" />
</template>
