<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import AppBar from './components/AppBar.vue'
import KeyHelp from './components/KeyHelp.vue'
import SignIn from './components/SignIn.vue'
import SignInAgain from './components/SignInAgain.vue'
import { useKeys } from './composables/keys'
import { turnTheme } from './composables/theme'
import { useSession } from './session'

const session = useSession()
const router = useRouter()
const help = ref(false)
void session.ask()

useKeys([
  { keys: 'g f', does: 'go to the fleet', run: () => void router.push('/') },
  { keys: 'g j', does: 'go to the jobs', run: () => void router.push('/jobs') },
  { keys: 'g c', does: 'go to compare', run: () => void router.push('/compare') },
  { keys: 't', does: 'turn light and dark', run: turnTheme },
  { keys: '?', does: 'list the keys', run: () => (help.value = true) },
])
</script>

<template>
  <template v-if="session.known">
    <SignIn v-if="!session.me" />
    <template v-else>
      <AppBar @help="help = true" />
      <main class="mx-auto max-w-[1500px] px-3 py-4 sm:px-5">
        <RouterView :key="$route.path" />
      </main>
      <SignInAgain v-if="session.expired" />
    </template>
  </template>
  <KeyHelp :open="help" @close="help = false" />
</template>
