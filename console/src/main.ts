import { PiniaColada } from '@pinia/colada'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'
import './composables/theme'
import './style.css'

// What changes is told (live.ts); coming back to a window asks nothing anew, least of all a device.
createApp(App)
  .use(createPinia())
  .use(PiniaColada, { queryOptions: { refetchOnWindowFocus: false } })
  .use(router)
  .mount('#app')
