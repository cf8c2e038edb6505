<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { useSession } from '../session'
import SignInForm from './SignInForm.vue'

const session = useSession()
</script>

<template>
  <Dialog :open="true" class="relative z-50" @close="() => {}">
    <div class="fixed inset-0 bg-black/40" aria-hidden="true"></div>
    <div class="fixed inset-0 grid place-items-center p-4">
      <DialogPanel class="card grid w-full max-w-sm gap-3 p-6 shadow-lg">
        <DialogTitle as="h1">Your session has run out</DialogTitle>
        <p class="text-faded">Sign in again; what you were doing goes on where it was.</p>
        <SignInForm :user="session.me?.user" />
      </DialogPanel>
    </div>
  </Dialog>
</template>
