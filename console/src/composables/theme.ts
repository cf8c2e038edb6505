import { useColorMode } from '@vueuse/core'

// Light or dark, as the system has it until somebody chooses.
const { store, state } = useColorMode({ attribute: 'data-theme', storageKey: 'theme', disableTransition: false })
export const theme = state

export function turnTheme() {
  store.value = state.value === 'dark' ? 'light' : 'dark'
}
