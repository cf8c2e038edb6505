import { createPinia } from 'pinia'
import { createApp } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'
import '../composables/theme'
import '../style.css'
import DesignPage from './DesignPage.vue'

// The page of all components, for whoever works on them: the development server has it
// at /design.html; it is not built into the program.
const router = createRouter({ history: createMemoryHistory(), routes: [{ path: '/:rest(.*)*', component: DesignPage }] })
createApp(DesignPage).use(createPinia()).use(router).mount('#app')
