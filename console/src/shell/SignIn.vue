<script setup lang="ts">
import { useSession } from '../session'
import OwnPassword from './OwnPassword.vue'
import SignInForm from './SignInForm.vue'

// Who is not signed in, or has to choose a password of their own first, sees nothing else.
const session = useSession()
</script>

<template>
  <main class="grid min-h-dvh place-items-center p-4">
    <div class="card w-full max-w-sm overflow-hidden shadow-sm">
      <div class="wing h-2"></div>
      <div class="grid gap-4 p-6">
        <h1 class="flex items-center gap-2"><img src="/favicon.svg" alt="" class="size-7" />Steady Magpie</h1>
        <p class="text-faded">Keeps the configurations of your network, and puts them back.</p>
        <template v-if="session.me?.must_change">
          <p>The password you have was given to you. Choose one of your own, {{ session.me.user }}.</p>
          <OwnPassword />
        </template>
        <SignInForm v-else />
      </div>
    </div>
  </main>
</template>
