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
  let waiting: (() => void)[] = []

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
    me.value = g.me
    keepFor(g.me.user)
    useCSRF(g.csrf ?? '')
    expired.value = false
    for (const go of waiting) go()
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
    me.value = undefined
  }

  whenExpired(() => {
    expired.value = true
    return new Promise<void>((go) => waiting.push(go))
  })

  return { me, known, trouble, expired, may, ask, signIn, choose, signOut }
})
