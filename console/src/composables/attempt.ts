import { ref } from 'vue'

// One thing at a time that a person asked for: busy while it is under way,
// trouble when it failed. It tells whether it came to its end.
export function useAttempt() {
  const busy = ref(false)
  const trouble = ref<Error>()
  async function attempt(what: () => Promise<unknown>) {
    busy.value = true
    trouble.value = undefined
    try {
      await what()
      return true
    } catch (e) {
      trouble.value = e as Error
      return false
    } finally {
      busy.value = false
    }
  }
  return { busy, trouble, attempt }
}
