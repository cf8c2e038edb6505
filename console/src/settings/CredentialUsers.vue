<script setup lang="ts">
import { computed, ref } from 'vue'
import { post, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import SideDrawer from '../design/SideDrawer.vue'
import DeviceState from '../fleet/DeviceState.vue'
import { useFleet } from '../fleet'
import { useSession } from '../session'

// Which devices use a credential set, and giving it to others.
const props = defineProps<{ set: Schemas['CredentialSet'] }>()
defineEmits<{ close: [] }>()
const admin = useSession().may('admin')
const fleet = useFleet()
const users = computed(() => fleet.devices.filter((d) => d.credential === props.set.name))
const to = ref('')
const { busy, trouble, attempt } = useAttempt()
const attach = () =>
  attempt(async () => {
    await post(`/credentials/${encodeURIComponent(props.set.name)}/attach`, { selector: to.value.trim().split(/\s+/) })
    await fleet.load()
    to.value = ''
  })
</script>

<template>
  <SideDrawer :title="`Credential set ${set.name}`" @close="$emit('close')">
    <p>{{ users.length }} {{ users.length === 1 ? 'device signs' : 'devices sign' }} in as {{ set.user }} by it.</p>
    <ul class="card max-h-[50dvh] divide-y divide-rule overflow-auto">
      <li v-for="d in users.slice(0, 500)" :key="d.id" class="flex justify-between gap-3 px-3 py-1">
        <RouterLink :to="'/devices/' + d.name">{{ d.name }}</RouterLink><DeviceState :device="d" />
      </li>
    </ul>
    <AppForm v-if="admin" :busy="busy" :trouble="trouble" deed="Give it to them" :unable="!to.trim()" @send="attach">
      <FormField
        v-model="to"
        label="Give it to other devices, instead of what they have"
        name="attach"
        placeholder="site=skerrinsay kind=switch"
      />
    </AppForm>
  </SideDrawer>
</template>
