<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { computed, reactive, ref, watch } from 'vue'
import { ApiError, post, type Device, type Schemas, listAll } from '../api/call'
import { useAttempt } from '../composables/attempt'
import ProblemNote from './ProblemNote.vue'

defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: []; added: [name: string] }>()

const form = reactive({
  name: '',
  address: '',
  port: 22,
  dialect: '',
  site: '',
  tags: '',
  user: '',
  password: '',
  privileged_secret: '',
  transport: '',
  credential: '',
})
const sets = ref<Schemas['CredentialSet'][]>([])
const dialects = ref<Schemas['Dialect'][]>([])
const probe = ref<Schemas['Probe']>()
const identity = ref<Schemas['Tried']>()
const twice = ref(false) // another device is registered at the same address, and both are meant
const { busy, trouble, attempt } = useAttempt()
const registered = computed(() => trouble.value instanceof ApiError && trouble.value.problem.title === 'registered already')

void attempt(async () => {
  dialects.value = await listAll('/dialects')
  form.dialect = dialects.value[0]?.name ?? ''
  sets.value = await listAll('/credentials')
})
const ways = computed(() => dialects.value.find((d) => d.name === form.dialect)?.ways ?? [])
const privileged = computed(() => dialects.value.find((d) => d.name === form.dialect)?.privileged)
const way = computed(() => ways.value.find((w) => w.transport === form.transport))
watch(ways, (w) => (form.transport = w[0]?.transport ?? ''))
watch(way, (w) => {
  form.port = w?.port ?? 22
  probe.value = undefined
})

const body = computed(() => ({
  ...form,
  tags: form.tags.split(/[\s,]+/).filter(Boolean),
  host_key: probe.value?.host_key || undefined,
  twice: twice.value || undefined,
  ...(form.credential ? { user: undefined, password: undefined, privileged_secret: undefined } : { credential: undefined }),
}))
const look = () =>
  attempt(async () => {
    identity.value = undefined
    probe.value = await post('/probe', { address: form.address, port: form.port, transport: form.transport })
  })
const tryIt = () => attempt(async () => void (identity.value = await post('/try', body.value)))
const save = () =>
  attempt(async () => {
    const d = await post<Device>('/devices', body.value)
    await post('/pulls', { selector: [d.name] })
    emit('added', d.name)
  })
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="$emit('close')">
    <div class="fixed inset-0 bg-black/40" aria-hidden="true"></div>
    <div class="fixed inset-0 overflow-y-auto p-4">
      <DialogPanel class="card mx-auto grid w-full max-w-2xl gap-4 p-6 shadow-lg">
        <DialogTitle as="h1">Add a device</DialogTitle>
        <form class="grid gap-3 sm:grid-cols-2" @submit.prevent="probe ? (identity ? save() : tryIt()) : look()">
          <label class="grid gap-1">Name<input v-model.trim="form.name" class="field" required /></label>
          <label class="grid gap-1"
            >Dialect
            <select v-model="form.dialect" class="field">
              <option v-for="d in dialects" :key="d.name" :value="d.name">{{ d.title }}</option>
            </select>
          </label>
          <label v-if="ways.length > 1" class="grid gap-1 sm:col-span-2"
            >Spoken to over
            <select v-model="form.transport" class="field">
              <option v-for="w in ways" :key="w.transport" :value="w.transport">
                {{ w.transport }}{{ w.shows_key ? '' : ', unencrypted' }}
              </option>
            </select>
          </label>
          <label class="grid gap-1">Address<input v-model.trim="form.address" class="field" required @input="probe = undefined" /></label>
          <label class="grid gap-1"
            >Port<input v-model.number="form.port" class="field" type="number" min="1" max="65535" required @input="probe = undefined"
          /></label>
          <label class="grid gap-1">Site<input v-model.trim="form.site" class="field" /></label>
          <label class="grid gap-1">Tags<input v-model="form.tags" class="field" placeholder="core, edge" /></label>
          <label v-if="sets.length" class="grid gap-1 sm:col-span-2"
            >Login
            <select v-model="form.credential" class="field" @change="identity = undefined">
              <option value="">one of its own</option>
              <option v-for="c in sets" :key="c.name" :value="c.name">credential set {{ c.name }}, user {{ c.user }}</option>
            </select>
          </label>
          <template v-if="!form.credential">
            <label class="grid gap-1"
              >User on the device<input v-model.trim="form.user" class="field" autocomplete="off" required @input="identity = undefined"
            /></label>
            <label class="grid gap-1"
              >Password<input
                v-model="form.password"
                class="field"
                type="password"
                autocomplete="new-password"
                required
                @input="identity = undefined"
            /></label>
            <label v-if="privileged" class="grid gap-1 sm:col-span-2"
              >Secret of the privileged mode<input
                v-model="form.privileged_secret"
                class="field"
                type="password"
                autocomplete="new-password"
                @input="identity = undefined"
            /></label>
          </template>
          <div v-if="probe" class="rounded border border-rule bg-leaf p-3 sm:col-span-2">
            <template v-if="probe.fingerprint">
              <p class="font-medium">It shows the {{ form.transport === 'https' ? 'certificate' : 'host key' }}</p>
              <p class="font-mono text-[13px] break-all">{{ probe.fingerprint }}</p>
              <p class="text-faded">Compare it with what the device itself says. Going on accepts it.</p>
            </template>
            <p v-else class="font-medium">
              It answers. Over {{ form.transport }} it shows no key: whoever answers there is believed, and all that is said travels
              unencrypted.
            </p>
            <template v-if="identity">
              <p class="mt-2">
                <b>{{ identity.host }}</b>, {{ identity.model }}, serial {{ identity.serial }}, release {{ identity.release
                }}<template v-if="identity.factory">; it has factory settings</template>
              </p>
              <ul class="mt-1">
                <li v-for="p in identity.parts" :key="p.name">
                  {{ p.name }}: <span v-if="p.trouble" class="text-alarm">{{ p.trouble }}</span><template v-else-if="p.absent"
                    >the device has none</template
                  ><template v-else>{{ p.lines ? p.lines + ' lines' : p.bytes + ' bytes' }}, whole</template>
                </li>
              </ul>
              <p v-if="identity.members.length">It speaks for {{ identity.members.length }} devices, which its first pull adds.</p>
              <p v-for="w in identity.warnings" :key="w" class="mt-1 text-gone-ink">Note: {{ w }}</p>
            </template>
          </div>
          <ProblemNote class="sm:col-span-2" :error="trouble" />
          <label v-if="registered || twice" class="flex gap-2 sm:col-span-2"
            ><input v-model="twice" type="checkbox" class="accent-violet" />both are meant: register it a second time</label
          >
          <div class="flex gap-2 sm:col-span-2">
            <button class="button-main" :disabled="busy">
              {{
                probe
                  ? identity
                    ? 'Save and pull'
                    : probe.fingerprint
                      ? 'Accept the key and sign in once'
                      : 'Sign in once'
                  : 'Look who answers there'
              }}
            </button>
            <button type="button" class="button" @click="$emit('close')">Cancel</button>
          </div>
        </form>
      </DialogPanel>
    </div>
  </Dialog>
</template>
