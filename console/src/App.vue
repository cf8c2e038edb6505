<script setup lang="ts">
import { defineAsyncComponent, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { useAttempt } from './composables/attempt'
import { useKeys } from './composables/keys'
import { turnTheme } from './composables/theme'
import AppButton from './design/AppButton.vue'
import ProblemNote from './design/ProblemNote.vue'
import { useFleet } from './fleet'
import { listen, useFresh } from './live'
import { useSession } from './session'
import AppBar from './shell/AppBar.vue'
import { places } from './shell/places'

const KeyHelp = defineAsyncComponent(() => import('./shell/KeyHelp.vue'))
const CommandPalette = defineAsyncComponent(() => import('./shell/CommandPalette.vue'))
const SignIn = defineAsyncComponent(() => import('./shell/SignIn.vue'))
const SignInAgain = defineAsyncComponent(() => import('./shell/SignInAgain.vue'))

const session = useSession()
const fleet = useFleet()
const router = useRouter()
const { busy, attempt } = useAttempt()
const help = ref(false)
const find = ref(false)
void session.ask()
useFresh()
watch(
  () => !session.me?.must_change && session.me?.user,
  (user) => {
    if (!user) return
    listen()
    void fleet.load()
  },
)

useKeys([
  ...places.map((p) => ({ keys: 'g ' + p.key, does: 'go to ' + p.label.toLowerCase(), run: () => void router.push(p.to) })),
  { keys: 'Ctrl k', does: 'find any device, version, job, page or deed', run: () => (find.value = true) },
  { keys: 't', does: 'turn light and dark', run: turnTheme },
  { keys: '?', does: 'list the keys', run: () => (help.value = true) },
])
</script>

<template>
  <template v-if="session.known">
    <main v-if="session.trouble" class="mx-auto grid max-w-md gap-3 p-4 pt-[20dvh]">
      <ProblemNote :error="session.trouble" />
      <AppButton main :busy="busy" class="justify-self-start" @click="attempt(session.ask)">Ask again</AppButton>
    </main>
    <SignIn v-else-if="!session.me || session.me.must_change" />
    <template v-else>
      <AppBar @help="help = true" @find="find = true" />
      <main id="main" class="mx-auto max-w-[1800px] px-3 py-3 sm:px-5">
        <RouterView :key="$route.path === '/push' ? $route.fullPath : $route.path" />
      </main>
      <SignInAgain v-if="session.expired" />
      <CommandPalette v-if="find" @close="find = false" />
    </template>
  </template>
  <KeyHelp v-if="help" @close="help = false" />
</template>
