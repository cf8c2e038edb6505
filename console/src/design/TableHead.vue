<script setup lang="ts" generic="T extends object">
import type { Column } from './table'

// The heads of a table's columns, which sort it.
defineProps<{
  columns: Column<T>[]
  grid: string
  picks?: boolean
  all: boolean
  sortOf: (id: string) => { desc: boolean } | undefined
}>()
defineEmits<{ sort: [column: Column<T>]; all: [] }>()
</script>

<template>
  <div role="row" aria-rowindex="1" class="table-head-box" :style="{ gridTemplateColumns: grid }">
    <div v-if="picks" role="columnheader" class="grid place-items-center">
      <label class="check-area"><input type="checkbox" class="check" aria-label="pick all" :checked="all" @click="$emit('all')" /></label>
    </div>
    <div
      v-for="c in columns"
      :key="c.id"
      role="columnheader"
      class="table-cell-box text-faded"
      :class="{ 'text-right': c.right }"
      :aria-sort="!sortOf(c.id) ? (c.value ? 'none' : undefined) : sortOf(c.id)?.desc ? 'descending' : 'ascending'"
    >
      <button v-if="c.value" type="button" class="head-button" @click="$emit('sort', c)">
        {{ c.label }}<span aria-hidden="true" class="text-violet">{{ !sortOf(c.id) ? '' : sortOf(c.id)?.desc ? ' ↓' : ' ↑' }}</span>
      </button>
      <span v-else class="font-medium">{{ c.label }}</span>
    </div>
  </div>
</template>
