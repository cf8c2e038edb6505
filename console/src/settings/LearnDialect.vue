<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'
import { listAll, post, query, type Device, type Dialect, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// A draft of a dialect's rules: from versions, from logs of typed sessions, and, where that is
// allowed, from experiments on a device that nobody needs.
const props = defineProps<{ dialect: Dialect }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const form = reactive({ all: true, on: '', experiment: false, note: '' })
const logs = ref<string[]>([])
const { busy, trouble, attempt } = useAttempt()
const { data: devices } = useQuery({
  key: () => ['device', 'speaking', props.dialect.name],
  query: () => listAll<Device>('/devices' + query({ selector: 'dialect=' + props.dialect.name })),
  enabled: () => props.dialect.devices > 0,
})
const places = computed(() => [
  { value: '', label: 'none' },
  ...(devices.value ?? []).filter((d) => !d.member).map((d) => ({ value: d.name, label: d.name })),
])
const pick = (files: FileList) => attempt(async () => void (logs.value = await Promise.all([...files].map((f) => f.text()))))
const send = () =>
  attempt(async () => {
    const j = await post<Job>(`/dialects/${encodeURIComponent(props.dialect.name)}/learn`, {
      of: form.all && props.dialect.devices ? ['dialect=' + props.dialect.name] : undefined,
      on: form.on || undefined,
      experiment: form.experiment || undefined,
      logs: logs.value.length ? logs.value : undefined,
      note: form.note || undefined,
    })
    await router.push('/jobs/' + j.id)
  })
</script>

<template>
  <ModalDialog :title="`Draft the rules of ${dialect.name}`" @close="emit('close')">
    <p class="text-faded">The draft says what was seen and what is not known; it is read and loaded by a person.</p>
    <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Draft them" leaves @send="send" @leave="emit('close')">
      <FormField
        v-if="dialect.devices"
        v-model="form.all"
        type="check"
        :label="`from the versions of its ${dialect.devices} devices`"
        name="learn-of"
      />
      <FormField label="From logs of sessions that somebody typed" name="learn-logs" type="file" :problem="problem('logs')" @file="pick" />
      <FormField v-model="form.on" label="A device to ask" name="learn-on" type="select" :options="places" />
      <FormField
        v-if="form.on"
        v-model="form.experiment"
        type="check"
        label="try lines out on it; each is undone, and nobody may need it meanwhile"
        name="learn-experiment"
      />
      <FormField v-if="form.experiment" v-model="form.note" label="Why" name="learn-note" :problem="problem('note')" />
    </AppForm>
  </ModalDialog>
</template>
