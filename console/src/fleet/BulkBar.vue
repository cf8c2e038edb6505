<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Device } from '../api/call'
import { useKeys } from '../composables/keys'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppButton from '../design/AppButton.vue'
import ProblemNote from '../design/ProblemNote.vue'
import { selectorOf } from '../selector'
import { useSession } from '../session'
import AddDevice from './AddDevice.vue'
import ModalDialog from '../design/ModalDialog.vue'
import MakeChecks from '../device/MakeChecks.vue'
import BaselineMany from './BaselineMany.vue'
import { usePulls } from './bulk'
import RestoreMany from './RestoreMany.vue'
import TagMany from './TagMany.vue'

// What can be done to the devices that are picked, or to all that are listed.
const props = defineProps<{ listed: Device[]; text: string }>()
const picked = defineModel<string[]>('picked', { required: true })
const router = useRouter()
const session = useSession()
const operator = session.may('operator')
const admin = session.may('admin')

const selector = computed(() => (picked.value.length ? picked.value : selectorOf(props.text, props.listed)))
const n = computed(() => picked.value.length || props.listed.length)
const whom = computed(() => (picked.value.length ? `${n.value} picked` : n.value === 1 ? 'the one listed' : `all ${n.value} listed`))
const pulls = usePulls()
const open = ref('')
useKeys([
  {
    keys: 'r',
    does: 'pull what is picked, or all that are listed',
    run: () => operator.value && n.value && void pulls.pull(selector.value),
  },
])
const deeds = computed<Deed[]>(() => [
  ...(admin.value ? [{ label: `Tag ${whom.value}…`, run: () => (open.value = 'tag') }] : []),
  { label: `Approve a baseline of ${whom.value}…`, run: () => (open.value = 'baseline') },
  { label: `Check ${whom.value}…`, run: () => (open.value = 'check') },
  { label: `Put ${whom.value} back…`, run: () => (open.value = 'restore') },
  { label: `Snapshot of ${whom.value}…`, run: () => router.push({ path: '/snapshots', query: { of: selector.value.join(' ') } }) },
])
</script>

<template>
  <div v-if="operator" class="flex flex-wrap items-center gap-2">
    <span v-if="picked.length" class="chip"
      >{{ picked.length }} picked <button class="link" type="button" @click="picked = []">none</button></span
    >
    <AppButton main :busy="pulls.running.value || !n" @click="pulls.pull(selector)">Pull {{ picked.length ? n : 'all ' + n }}</AppButton>
    <ActionMenu v-if="n" label="More" :deeds="deeds" />
    <AppButton v-if="admin" @click="open = 'add'">Add a device</AppButton>
    <TagMany v-if="open === 'tag'" :selector="selector" :whom="whom" :devices="listed" @close="open = ''" />
    <BaselineMany v-if="open === 'baseline'" :selector="selector" :whom="whom" @close="open = ''" />
    <ModalDialog v-if="open === 'check'" :title="`Check ${whom}`" @close="open = ''"><MakeChecks :selector="selector" /></ModalDialog>
    <RestoreMany v-if="open === 'restore'" :selector="selector" :whom="whom" @close="open = ''" />
    <AddDevice v-if="open === 'add'" @close="open = ''" @added="(name) => router.push('/devices/' + name)" />
  </div>
  <ProblemNote :error="pulls.trouble.value" class="basis-full" />
  <div v-if="pulls.of.value" class="basis-full" role="status">
    <progress class="h-1.5 w-full accent-violet" :max="pulls.of.value" :value="pulls.done.value" aria-label="Pulls done"></progress>
    <p class="text-faded">
      {{ pulls.done.value }} of {{ pulls.of.value }} pulled<template v-if="pulls.failed.value.length"
        >; without success: {{ pulls.failed.value.slice(0, 12).join(', ')
        }}{{ pulls.failed.value.length > 12 ? ` and ${pulls.failed.value.length - 12} more` : '' }}</template
      >
    </p>
  </div>
</template>
