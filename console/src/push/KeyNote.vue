<script setup lang="ts">
import AppButton from '../design/AppButton.vue'
import FactList from '../design/FactList.vue'

// A unit shows another key than the device's: to be accepted by a person.
defineProps<{ shown: string; before?: string }>()
defineEmits<{ accept: [] }>()
</script>

<template>
  <section class="card mb-3 grid max-w-2xl gap-3 p-4" aria-label="Another key">
    <div>
      <p class="font-semibold">The unit shows a key that is not the device's.</p>
      <p class="text-faded">Compare it with what the unit itself says, or with its papers. Nothing was told to it yet.</p>
    </div>
    <FactList
      bare
      :facts="[
        { word: 'shown now', says: shown, mono: true },
        { word: 'accepted until now', says: before, mono: true },
      ]"
    />
    <span><AppButton main @click="$emit('accept')">It is this unit's key, go on</AppButton></span>
  </section>
</template>
