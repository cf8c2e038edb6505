<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'
import TabBar from '../design/TabBar.vue'
import { settings } from '../shell/places'
import { useSession } from '../session'

// What the service is told once: who may, with which logins, how devices are spoken to.
const session = useSession()
const tabs = computed(() => settings.filter((s) => !s.admin || session.me?.role === 'admin'))
const of = {
  service: defineAsyncComponent(() => import('../settings/ServiceHealth.vue')),
  credentials: defineAsyncComponent(() => import('../settings/CredentialSets.vue')),
  dialects: defineAsyncComponent(() => import('../settings/DialectList.vue')),
  retention: defineAsyncComponent(() => import('../settings/RetentionList.vue')),
  copies: defineAsyncComponent(() => import('../keeping/CopiesTab.vue')),
  files: defineAsyncComponent(() => import('../keeping/FilesTab.vue')),
  approvals: defineAsyncComponent(() => import('../settings/ApprovalRules.vue')),
  tokens: defineAsyncComponent(() => import('../settings/OwnTokens.vue')),
  inventory: defineAsyncComponent(() => import('../inventory/InventoryTab.vue')),
  users: defineAsyncComponent(() => import('../settings/UserList.vue')),
  audit: defineAsyncComponent(() => import('../settings/AuditLog.vue')),
}
</script>

<template>
  <h1 class="mb-2">Settings</h1>
  <TabBar :tabs="tabs" label="Settings">
    <template v-for="(view, name) in of" :key="name" #[name]><component :is="view" /></template>
  </TabBar>
</template>
