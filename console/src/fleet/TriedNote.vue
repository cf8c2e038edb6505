<script setup lang="ts">
import type { Probe, Schemas } from '../api/call'

// what answers at an address, and what it said once somebody signed in.
defineProps<{ probe: Probe; tried?: Schemas['Tried']; transport: string }>()
</script>

<template>
  <div class="rounded border border-rule bg-leaf p-3">
    <template v-if="probe.fingerprint">
      <p class="font-medium">It shows the {{ transport === 'https' ? 'certificate' : 'host key' }}</p>
      <p class="mono break-all">{{ probe.fingerprint }}</p>
      <p class="text-faded">Compare it with what the device itself says. Going on accepts it.</p>
    </template>
    <p v-else class="font-medium">
      It answers. Over {{ transport }} it shows no key: whoever answers there is believed, and all that is said travels unencrypted.
    </p>
    <template v-if="tried">
      <p class="mt-2">
        <b>{{ tried.host }}</b>, {{ tried.model }}, serial {{ tried.serial }}, release {{ tried.release
        }}<template v-if="tried.factory">; it has factory settings</template>
      </p>
      <ul class="mt-1">
        <li v-for="p in tried.parts" :key="p.name">
          {{ p.name }}: <span v-if="p.trouble" class="text-alarm">{{ p.trouble }}</span><template v-else-if="p.absent"
            >the device has none</template
          ><template v-else>{{ p.lines ? p.lines + ' lines' : p.bytes + ' bytes' }}, whole</template>
        </li>
      </ul>
      <p v-if="tried.members.length">It speaks for {{ tried.members.length }} devices, which its first pull adds.</p>
      <p v-for="w in tried.warnings" :key="w" class="mt-1 text-gone-ink">Note: {{ w }}</p>
    </template>
  </div>
</template>
