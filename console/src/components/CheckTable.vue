<script setup lang="ts">
import type { Checked, Finding } from '../api/call'

// What was good before a push and is good after it, side by side.
defineProps<{ checks: Checked[] }>()
const word = (f?: Finding) => (!f ? '' : !f.known ? 'not known' : f.good ? 'good' : 'bad')
const mark = (f?: Finding) => (!f ? '' : !f.known ? '?' : f.good ? '✓' : '✗')
</script>

<template>
  <div class="card overflow-x-auto">
    <table class="w-full text-left">
      <thead class="text-faded">
        <tr>
          <th class="p-2 font-normal">check</th>
          <th class="p-2 font-normal">was</th>
          <th class="p-2 font-normal">is</th>
          <th class="p-2 font-normal">answer</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in checks" :key="c.check" class="border-t border-rule" :class="c.failed ? 'bg-gone text-gone-ink' : ''">
          <td class="p-2 font-mono text-[13px]">{{ c.check }}</td>
          <td class="p-2 whitespace-nowrap">
            <span aria-hidden="true">{{ mark(c.before) }}</span> {{ word(c.before) }}
          </td>
          <td class="p-2 whitespace-nowrap">
            <span aria-hidden="true">{{ mark(c.after) }}</span> {{ word(c.after) }}
          </td>
          <td class="p-2">{{ (c.after ?? c.before)?.said }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
