import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { keepFor } from './design/table'
import { ApiError, type Me, type Schemas, call, useCSRF, whenExpired } from './api/call'

const isUnknown = (e: unknown) => e instanceof ApiError && e.problem.status === 401

// The one place that knows who is signed in.
export const useSession = defineStore('session', () => {
  const me = ref<Me>()
  const known = ref(false) // whether it was asked who is signed in
  const trouble = ref<Error>() // why it could not be asked
  const expired = ref(false) // the session ran out while somebody was at work
  let waiting: { go: () => void; stop: (why: Error) => void }[] = []

  const may = (role: 'operator' | 'admin') => computed(() => me.value?.role === 'admin' || me.value?.role === role)

  async function ask() {
    try {
      me.value = await call<Me>('GET', '/me')
      useCSRF(me.value.csrf ?? '')
      keepFor(me.value.user)
      trouble.value = undefined
    } catch (e) {
      // Who is not signed in is no trouble; not to know it is.
      trouble.value = isUnknown(e) ? undefined : (e as Error)
    }
    known.value = true
  }

  async function signIn(user: string, password: string, code?: string) {
    const g = await call<Schemas['Granted']>('POST', '/session', { user, password, code: code || undefined })
    if (me.value && me.value.user !== g.me.user) {
      // What the one before asked for is not done for another, nor is what they saw shown.
      for (const w of waiting) w.stop(new Error('somebody else signed in; nothing was sent'))
      location.assign('/')
      return
    }
    me.value = g.me
    keepFor(g.me.user)
    useCSRF(g.csrf ?? '')
    expired.value = false
    for (const w of waiting) w.go()
    waiting = []
  }

  // choose sets another password of one's own.
  async function choose(old: string, password: string, code?: string) {
    const m = await call<Me>('PUT', '/me/password', { old, new: password, code: code || undefined })
    me.value = { ...m, csrf: me.value?.csrf }
  }

  async function signOut() {
    await call('DELETE', '/session').catch((e: unknown) => {
      if (!isUnknown(e)) throw e // who is signed out already is
    })
    location.assign('/') // nothing of what was seen stays in the page's memory
  }

  whenExpired(() => {
    expired.value = true
    return new Promise<void>((go, stop) => waiting.push({ go, stop }))
  })

  return { me, known, trouble, expired, may, ask, signIn, choose, signOut }
})
