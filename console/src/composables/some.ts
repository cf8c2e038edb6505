import { computed, ref, type MaybeRefOrGetter, toValue } from 'vue'

// Of a very long list the first are drawn, and more when they are asked for.
export function useSome<T>(all: MaybeRefOrGetter<T[]>, step: number) {
  const drawn = ref(step)
  return {
    some: computed(() => toValue(all).slice(0, drawn.value)),
    rest: computed(() => Math.max(0, toValue(all).length - drawn.value)),
    more: () => (drawn.value += step),
  }
}
