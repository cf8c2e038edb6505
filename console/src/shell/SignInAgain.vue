<script setup lang="ts">
import ModalDialog from '../design/ModalDialog.vue'
import { useSession } from '../session'
import SignInForm from './SignInForm.vue'

const session = useSession()
</script>

<template>
  <ModalDialog stays title="Your session has run out">
    <p class="text-faded">Sign in again; what you were doing goes on where it was.</p>
    <SignInForm :user="session.me?.user" />
  </ModalDialog>
</template>
