import { ref, watchEffect } from 'vue'

type Theme = 'light' | 'dark'
const kept = localStorage.getItem('theme') as Theme | null
const dark = matchMedia('(prefers-color-scheme: dark)')
export const theme = ref<Theme>(kept ?? (dark.matches ? 'dark' : 'light'))

export function startTheme() {
  dark.addEventListener('change', (e) => {
    if (!localStorage.getItem('theme')) theme.value = e.matches ? 'dark' : 'light'
  })
  watchEffect(() => (document.documentElement.dataset.theme = theme.value))
}

export function turnTheme() {
  theme.value = theme.value === 'dark' ? 'light' : 'dark'
  localStorage.setItem('theme', theme.value)
}
