<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { ApiError, post, type Device, type Schemas, listAll } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'
import TriedNote from './TriedNote.vue'

// Registers a device in three steps: what answers there, does the login work, save.
// start: what answered, and is to be registered; spare: it is meant for restore tests.
const props = defineProps<{ start?: Schemas['Proposal']; spare?: boolean }>()
const emit = defineEmits<{ close: []; added: [name: string] }>()
const form = reactive({
  name: '',
  address: props.start?.address ?? '',
  port: 22,
  dialect: '',
  site: '',
  tags: '',
  user: '',
  password: '',
  privileged_secret: '',
  transport: '',
  credential: '',
  spare: !!props.spare,
})
const sets = ref<Schemas['CredentialSet'][]>([])
const dialects = ref<Schemas['Dialect'][]>([])
const probe = ref<Schemas['Probe']>()
const tried = ref<Schemas['Tried']>()
const twice = ref(false) // another device is registered at the same address, and both are meant
const { busy, trouble, attempt } = useAttempt()
const registered = computed(() => trouble.value instanceof ApiError && trouble.value.problem.title === 'registered already')

void attempt(async () => {
  dialects.value = await listAll('/dialects')
  form.dialect = props.start?.dialects[0] ?? dialects.value[0]?.name ?? ''
  sets.value = await listAll('/credentials')
})
const family = computed(() => dialects.value.find((d) => d.name === form.dialect))
const ways = computed(() => family.value?.ways ?? [])
watch(ways, (w) => {
  const said = w.find((x) => x.transport === props.start?.transport)
  form.transport = (said ?? w[0])?.transport ?? ''
})
// The usual port of the way is proposed, and one that was typed stays.
watch(
  () => ways.value.find((w) => w.transport === form.transport),
  (w, was) => {
    if (w && w.transport === props.start?.transport) form.port = props.start.port
    else if (w && form.port === (was?.port ?? 22)) form.port = w.port
  },
)
watch(
  () => [form.address, form.port, form.transport],
  () => (probe.value = tried.value = undefined),
)
watch(
  () => [form.user, form.password, form.privileged_secret, form.credential],
  () => (tried.value = undefined),
)

const body = computed(() => ({
  ...form,
  tags: form.tags.split(/[\s,]+/).filter(Boolean),
  host_key: probe.value?.host_key || undefined,
  twice: twice.value || undefined,
  ...(form.credential ? { user: undefined, password: undefined, privileged_secret: undefined } : { credential: undefined }),
}))
const send = () =>
  attempt(async () => {
    if (!probe.value) probe.value = await post('/probe', { address: form.address, port: form.port, transport: form.transport })
    else if (!tried.value) tried.value = await post('/try', body.value)
    else {
      const d = await post<Device>('/devices', body.value)
      await post('/pulls', { selector: [d.name] })
      emit('added', d.name)
    }
  })
const deed = computed(() =>
  !probe.value
    ? 'Look what answers there'
    : tried.value
      ? 'Save and pull'
      : probe.value.fingerprint
        ? 'Accept the key and sign in once'
        : 'Sign in once',
)
const families = computed(() => dialects.value.map((d) => ({ value: d.name, label: d.title })))
const transports = computed(() =>
  ways.value.map((w) => ({ value: w.transport, label: w.transport + (w.shows_key ? '' : ', unencrypted') })),
)
const logins = computed(() => [
  { value: '', label: 'one of its own' },
  ...sets.value.map((c) => ({ value: c.name, label: `credential set ${c.name}, user ${c.user}` })),
])
</script>

<template>
  <ModalDialog title="Add a device" wide @close="emit('close')">
    <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" :deed="deed" leaves across @send="send" @leave="emit('close')">
      <FormField v-model.trim="form.name" label="Name" name="name" :problem="problem('name')" required />
      <FormField v-model="form.dialect" label="Dialect" name="dialect" type="select" :options="families" />
      <FormField
        v-if="ways.length > 1"
        v-model="form.transport"
        class="form-whole"
        label="Spoken to over"
        type="select"
        :options="transports"
      />
      <FormField v-model.trim="form.address" label="Address" name="address" :problem="problem('address')" required />
      <FormField v-model="form.port" label="Port" name="port" type="number" :min="1" :max="65535" required />
      <FormField v-model.trim="form.site" label="Site" name="site" :problem="problem('site')" />
      <FormField v-model="form.tags" label="Tags" name="tags" placeholder="core, edge" />
      <FormField
        v-if="sets.length"
        v-model="form.credential"
        class="form-whole"
        label="Login"
        name="login"
        type="select"
        :options="logins"
      />
      <template v-if="!form.credential">
        <FormField v-model.trim="form.user" label="User on the device" name="device-user" :problem="problem('user')" required />
        <FormField v-model="form.password" label="Password" name="device-password" type="password" autocomplete="new-password" required />
        <FormField
          v-if="family?.privileged"
          v-model="form.privileged_secret"
          class="form-whole"
          label="Secret of the privileged mode"
          name="device-privileged"
          type="password"
          autocomplete="new-password"
        />
      </template>
      <FormField
        v-model="form.spare"
        class="form-whole"
        type="check"
        name="spare"
        label="a spare that nobody needs: restore tests may replace what it runs for a while"
      />
      <TriedNote v-if="probe" class="form-whole" :probe="probe" :tried="tried" :transport="form.transport" />
      <FormField
        v-if="registered || twice"
        v-model="twice"
        class="form-whole"
        type="check"
        label="both are meant: register it a second time"
      />
    </AppForm>
  </ModalDialog>
</template>
