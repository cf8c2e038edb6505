<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { call, listAll, post, type Device, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// Changes what is registered of a device. Where it is reached otherwise, or shows another key, the key that it shows is
// looked at and accepted first.
const props = defineProps<{ device: Device }>()
const emit = defineEmits<{ close: []; changed: [device: Device] }>()
const d = props.device
const form = reactive({
  name: d.name,
  site: d.site,
  kind: d.kind,
  tags: d.tags.join(' '),
  address: d.address,
  port: d.port,
  parent: d.parent ?? '',
  jump: d.jump ?? '',
  note: d.note ?? '',
  fields: Object.entries(d.fields ?? {})
    .map(([k, v]) => `${k}=${v}`)
    .join('\n'),
  disabled: d.disabled,
  spare: d.spare,
  dialect: d.dialect,
  transport: d.transport ?? '',
  anew: false, // its key is looked at, whatever else changed
})
const dialects = ref<Schemas['Dialect'][]>([])
const probe = ref<Schemas['Probe']>()

const kinds = ['router', 'switch', 'firewall', 'wireless-controller', 'access-point', 'other'].map((k) => ({ value: k, label: k }))
const words = (s: string) => s.split(/\s+/).filter(Boolean)
const fields = () =>
  Object.fromEntries(
    form.fields
      .split('\n')
      .filter((l) => l.includes('='))
      .map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()]),
  )
const { busy, trouble, attempt } = useAttempt()
void attempt(async () => (dialects.value = await listAll('/dialects')))
const ways = computed(() => dialects.value.find((x) => x.name === form.dialect)?.ways ?? [])
const way = computed(() => ways.value.find((w) => w.transport === form.transport) ?? ways.value[0])
const families = computed(() => (dialects.value.length ? dialects.value : [{ name: d.dialect, title: d.dialect }]))
const transports = computed(() => ways.value.map((w) => ({ value: w.transport, label: w.transport })))
watch(
  () => form.dialect,
  () => (form.transport = way.value?.transport ?? ''),
)
const moved = computed(
  () =>
    form.anew ||
    form.address !== d.address ||
    form.port !== d.port ||
    (!!form.transport && form.transport !== (d.transport || ways.value[0]?.transport)),
)
watch(
  () => [form.address, form.port, form.transport, form.anew],
  () => (probe.value = undefined),
)
const look = computed(() => moved.value && !d.member && !!way.value?.shows_key && !probe.value)
const send = () =>
  attempt(async () => {
    if (look.value) {
      probe.value = await post('/probe', { address: form.address, port: form.port, transport: way.value?.transport })
      return
    }
    const body = {
      name: form.name !== d.name ? form.name : undefined,
      site: form.site,
      kind: form.kind,
      tags: form.tags === d.tags.join(' ') ? undefined : words(form.tags),
      address: form.address !== d.address ? form.address : undefined,
      port: form.port !== d.port ? form.port : undefined,
      parent: form.parent !== (d.parent ?? '') ? form.parent : undefined,
      jump: form.jump !== (d.jump ?? '') ? form.jump : undefined,
      note: form.note,
      fields: fields(),
      disabled: form.disabled,
      spare: form.spare,
      dialect: form.dialect !== d.dialect ? form.dialect : undefined,
      transport: form.transport && form.transport !== d.transport ? form.transport : undefined,
      host_key: probe.value?.host_key || undefined,
    }
    const path = '/devices/' + encodeURIComponent(d.name)
    emit('changed', await call<Device>('PATCH', path, body, { 'If-Match': `"${d.revision}"` }))
  })
</script>

<template>
  <ModalDialog :title="`Change what is registered of ${d.name}`" wide @close="emit('close')">
    <AppForm
      v-slot="{ problem }"
      :busy="busy"
      :trouble="trouble"
      :deed="look ? 'Look what answers there' : probe?.fingerprint ? 'Accept the key and save' : 'Save'"
      leaves
      @send="send"
      @leave="emit('close')"
    >
      <div class="grid gap-3 sm:grid-cols-2">
        <FormField v-model.trim="form.name" label="Name" name="entry-name" required :problem="problem('name')" />
        <FormField v-model.trim="form.site" label="Site" name="entry-site" :problem="problem('site')" />
        <FormField v-model="form.kind" label="Kind" name="entry-kind" type="select" :options="kinds" />
        <FormField v-model="form.tags" label="Tags" name="entry-tags" hint="with blanks between" :problem="problem('tags')" />
        <FormField v-model.trim="form.address" label="Address" name="entry-address" :problem="problem('address')" />
        <FormField v-model="form.port" label="Port" name="entry-port" type="number" :min="1" :max="65535" :problem="problem('port')" />
        <FormField
          v-model="form.dialect"
          label="Dialect"
          name="entry-dialect"
          type="select"
          :options="families.map((x) => ({ value: x.name, label: x.title }))"
          :problem="problem('dialect')"
        />
        <FormField
          v-if="ways.length > 1"
          v-model="form.transport"
          label="Spoken to over"
          name="entry-transport"
          type="select"
          :options="transports"
        />
        <FormField v-model.trim="form.parent" label="Hangs on" name="entry-parent" hint="a device's name" :problem="problem('parent')" />
        <FormField v-model.trim="form.jump" label="Reached through" name="entry-jump" hint="a device's name" :problem="problem('jump')" />
      </div>
      <FormField v-model="form.note" label="Note" name="entry-note" type="area" :rows="2" :problem="problem('note')" />
      <FormField
        v-model="form.fields"
        label="Fields of your own"
        name="entry-fields"
        type="area"
        mono
        :rows="2"
        placeholder="rack=B4"
        hint="NAME=VALUE, a line for each"
        :problem="problem('fields')"
      />
      <FormField v-model="form.disabled" label="keep it, and visit it no more" name="entry-disabled" type="check" />
      <FormField
        v-model="form.spare"
        label="a spare that nobody needs: restore tests may replace what it runs for a while"
        name="entry-spare"
        type="check"
      />
      <FormField
        v-if="way?.shows_key && !d.member"
        v-model="form.anew"
        label="look at the key that it shows now"
        name="entry-key"
        type="check"
      />
      <div v-if="probe" class="rounded border border-rule bg-leaf p-3">
        <template v-if="probe.fingerprint === d.host_key_fingerprint">It shows the key that was accepted.</template>
        <template v-else-if="probe.fingerprint">
          <p class="font-semibold">
            It shows {{ d.host_key_fingerprint ? 'another key' : 'a key' }}. Compare it with what the device itself says.
          </p>
          <p class="mono break-all">{{ probe.fingerprint }}</p>
          <p v-if="d.host_key_fingerprint" class="text-faded">
            Accepted until now: <span class="mono break-all">{{ d.host_key_fingerprint }}</span>
          </p>
        </template>
        <template v-else>It answers, and shows no key.</template>
      </div>
    </AppForm>
  </ModalDialog>
</template>
