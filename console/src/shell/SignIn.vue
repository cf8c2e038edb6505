<script setup lang="ts">
import SignInForm from './SignInForm.vue'
</script>

<template>
  <main class="grid min-h-dvh place-items-center p-4">
    <div class="card w-full max-w-sm overflow-hidden shadow-sm">
      <div class="wing h-2"></div>
      <div class="grid gap-4 p-6">
        <h1 class="flex items-center gap-2"><img src="/favicon.svg" alt="" class="size-7" />Steady Magpie</h1>
        <p class="text-faded">Keeps the configurations of your network, and puts them back.</p>
        <SignInForm />
      </div>
    </div>
  </main>
</template>
