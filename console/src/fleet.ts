import { defineStore } from 'pinia'
import { computed, ref, shallowRef, triggerRef } from 'vue'
import { get, listAll, query, type Device, type Page, type Schemas } from './api/call'
import { isAll, useTouched } from './live'

// The whole fleet, loaded once and kept as it is by what is written on the server.
export const useFleet = defineStore('fleet', () => {
  const byId = shallowRef(new Map<string, Device>())
  const known = ref(false) // all of it has arrived
  const trouble = ref<Error>()
  const status = shallowRef<Schemas['Status']>() // as it was last, while the database is away
  const devices = computed(() => [...byId.value.values()])
  const byName = computed(() => new Map(devices.value.map((d) => [d.name, d])))

  let loading: Promise<void> | undefined
  const load = () => (loading ??= fetchAll().finally(() => (loading = undefined)))
  async function fetchAll() {
    try {
      const all = new Map<string, Device>()
      let next: string | undefined = ''
      do {
        const page: Page<Device> = await get<Page<Device>>('/devices' + query({ limit: 1000, cursor: next }))
        for (const d of page.items) all.set(d.id, d)
        next = page.next
        if (!known.value) byId.value = new Map(all) // the first are shown at once
      } while (next)
      byId.value = all
      known.value = true
      trouble.value = status.value = undefined
    } catch (e) {
      trouble.value = e as Error
      status.value = await get<Schemas['Status']>('/status').catch(() => undefined)
    }
  }

  // What was written is fetched again in one go.
  let due: Set<string> | undefined
  useTouched((touched) => {
    if (touched.some((t) => isAll(t) || t.topic === 'database')) void load()
    for (const t of touched) {
      if (t.topic !== 'device' || !t.id) continue
      if (t.gone) {
        byId.value.delete(t.id)
        triggerRef(byId)
      } else if (t.name) later(t.name)
    }
  })
  function later(name: string) {
    if (!due) {
      const now = (due = new Set<string>())
      setTimeout(() => ((due = undefined), void refresh([...now])), 80)
    }
    due.add(name)
  }
  async function refresh(names: string[]) {
    if (names.length > 400) return load()
    try {
      for (let i = 0; i < names.length; i += 100) {
        const some = await listAll<Device>('/devices' + query({ selector: names.slice(i, i + 100).join(' '), limit: 1000 }))
        for (const d of some) byId.value.set(d.id, d)
      }
      triggerRef(byId)
    } catch {
      await load() // one of them was taken out or renamed meanwhile
    }
  }
  return { devices, byName, known, trouble, status, load, refresh }
})
