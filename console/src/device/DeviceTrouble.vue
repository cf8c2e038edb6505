<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Device } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppButton from '../design/AppButton.vue'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { useSession } from '../session'

// What is wrong with a device, and the ways out of it.
const props = defineProps<{ device: Device }>()
const emit = defineEmits<{ pull: [] }>()
const router = useRouter()
const operator = useSession().may('operator')
const d = computed(() => props.device)
const address = ref('')
const elsewhere = (swap?: string) =>
  void router.push({ path: '/push', query: { ref: d.value.name, to: d.value.name, at: address.value.trim(), swap } })
const { busy, trouble, attempt } = useAttempt()
const retry = async () => {
  if (await attempt(() => post(`/devices/${encodeURIComponent(d.value.name)}/retry-login`))) emit('pull')
}
const away = computed(() => d.value.latest && ['unreachable', 'hardware changed', 'factory defaults'].includes(d.value.state))
</script>

<template>
  <div v-if="d.trouble" role="alert" class="mb-3 grid gap-2 rounded border border-alarm px-3 py-2">
    <p class="font-medium text-alarm">{{ d.trouble }}</p>
    <div v-if="operator" class="flex flex-wrap items-end gap-x-6 gap-y-2">
      <AppButton v-if="d.state === 'hardware changed' && d.latest" main :to="`/push?ref=${d.name}&to=${d.name}&swap=1`"
        >Swap: let this unit take its place</AppButton
      >
      <AppButton v-if="d.state === 'factory defaults' && d.latest" main :to="`/push?ref=${d.name}`"
        >Put the newest version back on it</AppButton
      >
      <AppForm v-if="away" @send="address.trim() && elsewhere()">
        <div class="flex flex-wrap items-end gap-2">
          <FormField
            v-model="address"
            label="Is its unit at another address for now, the maker's or on a bench?"
            name="at"
            placeholder="192.0.2.1"
          />
          <AppButton submit :busy="!address.trim()">Put it back there</AppButton>
          <AppButton :busy="!address.trim()" @click="elsewhere('1')">Swap it in there</AppButton>
        </div>
      </AppForm>
    </div>
    <p v-if="d.login_locked_since">
      Nothing tries this login there again until it is changed, or you say that it is right.
      <AppButton v-if="operator" small :busy="busy" @click="retry">It is right, try again</AppButton>
    </p>
    <ProblemNote :error="trouble" />
  </div>
</template>
