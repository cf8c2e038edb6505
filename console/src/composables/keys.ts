import { useEventListener } from '@vueuse/core'
import { onBeforeUnmount, onMounted } from 'vue'

export interface Key {
  keys: string // as shown: "n", "g f", "Ctrl k"
  does: string
  run: () => void
}

// All keys that work now, newest page first.
const active: Key[][] = []
let first = ''

function typing(e: KeyboardEvent) {
  const t = e.target as HTMLElement
  return t.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(t.tagName)
}

useEventListener(window, 'keydown', (e) => {
  const held = (e.ctrlKey || e.metaKey) && !e.altKey
  if ((typing(e) && !held) || e.altKey || e.defaultPrevented) return
  if (document.querySelector('[role=dialog]')) return
  const both = held ? `Ctrl ${e.key}` : first ? `${first} ${e.key}` : e.key
  first = ''
  for (const keys of [...active].reverse()) {
    const hit = keys.find((k) => k.keys === both)
    if (hit) {
      e.preventDefault()
      hit.run()
      return
    }
    if (!held && keys.some((k) => k.keys.startsWith(e.key + ' '))) first = e.key
  }
})

// useKeys makes keys work while the component is there.
export function useKeys(keys: Key[]) {
  onMounted(() => active.push(keys))
  onBeforeUnmount(() => active.splice(active.indexOf(keys), 1))
}

export const allKeys = () => active.flat()
