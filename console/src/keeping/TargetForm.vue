<script setup lang="ts">
import { computed, reactive } from 'vue'
import { ApiError, call, type Schemas } from '../api/call'
import { useAttempt } from '../composables/attempt'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import ModalDialog from '../design/ModalDialog.vue'

// A target, new or changed. A server's host key is shown first, and has to be accepted.
const props = defineProps<{ target?: Schemas['Target'] }>()
const emit = defineEmits<{ kept: []; leave: [] }>()
const t = props.target
const form = reactive({
  name: t?.name ?? '',
  kind: t?.kind ?? 'folder',
  where: t?.where ?? '',
  user: t?.user ?? '',
  password: '',
  key: '',
  host_key: t?.host_key ?? '',
  ca: t?.ca ?? '',
  recipients: t?.recipients.join('\n') ?? '',
  files: t?.files ?? 'sealed',
  keep: t?.keep ?? false,
  paused: t?.paused ?? false,
  unreached: false,
  note: t?.note ?? '',
})
const kinds = [
  { value: 'folder', label: 'a folder on the service’s machine' },
  { value: 'sftp', label: 'an SFTP server' },
  { value: 'http', label: 'an HTTP server (WebDAV, or PUT)' },
  { value: 'git', label: 'a Git repository' },
]
const forms = [
  { value: 'sealed', label: 'sealed' },
  { value: 'masked', label: 'readable, secrets hidden' },
  { value: 'plain', label: 'readable, with passwords and keys' },
]
const like = { folder: '/mnt/vault', sftp: 'sftp://host/srv/copies', http: 'https://host/copies', git: 'ssh://git@host/copies.git' }
const bySSH = computed(() => form.kind === 'sftp' || (form.kind === 'git' && form.where.startsWith('ssh:')))
const { busy, trouble, attempt } = useAttempt()
const shown = computed(
  () => /--host-key (SHA256:\S+?)\)/.exec(trouble.value instanceof ApiError ? (trouble.value.problem.next ?? '') : '')?.[1],
)
const keep = () =>
  attempt(async () => {
    const { recipients, ...rest } = form
    const sealed = form.files === 'sealed' && form.kind !== 'git'
    const body = {
      ...rest,
      files: form.kind === 'git' ? undefined : form.files,
      recipients: sealed ? recipients.split(/\s+/).filter(Boolean) : [],
    }
    if (t) await call('PUT', '/targets/' + encodeURIComponent(t.name), body)
    else await call('POST', '/targets', body)
    emit('kept')
  })
</script>

<template>
  <ModalDialog :title="t ? `Change ${t.name}` : 'Add a target'" @close="emit('leave')">
    <AppForm v-slot="{ problem }" :busy="busy" :trouble="trouble" deed="Keep" leaves @send="keep" @leave="emit('leave')">
      <FormField v-model.trim="form.name" label="Name" name="target-name" :problem="problem('name')" required />
      <FormField v-if="!t" v-model="form.kind" label="What it is" name="target-kind" type="select" :options="kinds" />
      <FormField
        v-model.trim="form.where"
        label="Where"
        name="target-where"
        :placeholder="like[form.kind]"
        :problem="problem('where')"
        required
      />
      <template v-if="form.kind !== 'folder'">
        <FormField v-model.trim="form.user" label="User" name="target-user" />
        <FormField
          v-model="form.password"
          label="Password"
          name="target-password"
          type="password"
          :hint="t ? 'left empty it stays as it is' : ''"
        />
        <FormField v-if="bySSH" v-model="form.key" label="Or a private SSH key" name="target-key" type="area" mono />
        <FormField
          v-if="bySSH"
          v-model.trim="form.host_key"
          label="Host key, accepted"
          name="target-host-key"
          mono
          placeholder="SHA256:…"
        />
        <p v-if="shown && shown !== form.host_key">
          The server shows <code class="mono">{{ shown }}</code>.
          <button type="button" class="link" @click="form.host_key = shown">Accept it</button>
        </p>
        <FormField v-if="!bySSH" v-model="form.ca" label="Certificates that vouch for it" name="target-ca" type="area" mono />
      </template>
      <template v-if="!t && form.kind !== 'git'">
        <FormField v-model="form.files" label="Its files are" name="target-files" type="select" :options="forms" />
        <p v-if="form.files === 'plain'" class="text-alarm">Warning: whoever reads that place reads passwords and keys of all devices.</p>
      </template>
      <FormField
        v-if="form.kind !== 'git' && form.files === 'sealed'"
        v-model="form.recipients"
        label="Seal its files to these age recipients, too"
        name="target-recipients"
        type="area"
        mono
        :rows="2"
      />
      <FormField v-model="form.keep" label="what is deleted here stays there" name="target-keep" type="check" />
      <FormField v-model="form.paused" label="paused" name="target-paused" type="check" />
      <FormField
        v-if="trouble"
        v-model="form.unreached"
        label="keep it although it is not reached now"
        name="target-unreached"
        type="check"
      />
      <FormField v-model="form.note" label="Why" name="target-note" />
    </AppForm>
  </ModalDialog>
</template>
