<script setup lang="ts">
// Until a recovery sheet of the master key was verified, whoever looks after the service is told.
</script>

<template>
  <p class="mb-3 rounded border-2 border-alarm px-3 py-2" role="alert">
    <b class="text-alarm">No recovery sheet was verified yet.</b> Whoever loses the master key's file loses every configuration. On the
    service's machine <code class="mono">magpie key sheet</code> prints it as words for a sheet of paper, and
    <code class="mono">magpie key verify</code> proves that the sheet is right.
  </p>
</template>
