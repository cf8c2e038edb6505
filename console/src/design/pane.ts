import { useVirtualizer } from '@tanstack/vue-virtual'
import { useRoute, useRouter } from 'vue-router'
import { computed, ref, type Ref } from 'vue'

// LINE is the height of a line of text, in pixels.
export const LINE = 20

// useLines draws only those of many lines that are in sight. Whoever draws them keys them
// by their place in sight, not by their number: what leaves on one side is used again on
// the other, which is quicker than making it anew.
export function useLines(count: () => number, scroller: Ref<HTMLElement | undefined>) {
  const virtual = useVirtualizer(
    computed(() => ({ count: count(), getScrollElement: () => scroller.value ?? null, estimateSize: () => LINE, overscan: 4 })),
  )
  // The first line in sight.
  const top = computed(() => Math.floor((virtual.value.scrollOffset ?? 0) / LINE))
  const goTo = (index: number, align: 'start' | 'center' = 'center') => virtual.value.scrollToIndex(Math.max(0, index), { align })
  return { virtual, top, goTo }
}

// useAnchor is the part of the page's address behind the #, like L12 or L12-20.
export function useAnchor(letter: string) {
  const route = useRoute()
  const router = useRouter()
  const range = computed<[number, number] | undefined>(() => {
    const m = new RegExp(`^#${letter}(\\d+)(?:-(\\d+))?$`).exec(route.hash)
    return m ? [Number(m[1]), Number(m[2] ?? m[1])] : undefined
  })
  function point(n: number, more?: boolean) {
    const from = more && range.value ? range.value[0] : n
    const [a, b] = [Math.min(from, n), Math.max(from, n)]
    void router.replace({ query: route.query, hash: `#${letter}${a}${b > a ? '-' + b : ''}` })
  }
  return { range, point }
}

// useFind looks for a text among lines, without regard to case.
export function useFind(lines: () => string[], goTo: (index: number) => void) {
  const sought = ref('')
  const at = ref(-1)
  const hits = computed(() => {
    const s = sought.value.toLowerCase()
    return s ? lines().flatMap((l, i) => (l.toLowerCase().includes(s) ? [i] : [])) : []
  })
  function step(by: number) {
    if (!hits.value.length) return
    at.value = (at.value + by + hits.value.length) % hits.value.length
    goTo(hits.value[at.value])
  }
  function seek(s: string) {
    sought.value = s
    at.value = -1
    step(1)
  }
  // The pieces of a line, of which every second is a hit.
  function cut(line: string): string[] {
    const s = sought.value.toLowerCase()
    const out: string[] = []
    const low = line.toLowerCase()
    let from = 0
    for (let i = s ? low.indexOf(s) : -1; i >= 0; i = low.indexOf(s, from)) {
      out.push(line.slice(from, i), line.slice(i, i + s.length))
      from = i + s.length
    }
    return [...out, line.slice(from)]
  }
  return { sought, hits, at, step, seek, cut }
}
