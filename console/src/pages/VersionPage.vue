<script setup lang="ts">
import { useQuery, useQueryCache } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { versionsOf } from '../api/call'
import { when } from '../composables/time'
import { useKeys } from '../composables/keys'
import ActionMenu, { type Deed } from '../design/ActionMenu.vue'
import AppButton from '../design/AppButton.vue'
import FactList from '../design/FactList.vue'
import ProblemNote from '../design/ProblemNote.vue'
import TimeMark from '../design/TimeMark.vue'
import MarkVersion from '../device/MarkVersion.vue'
import { countedFrom } from '../device/versions'
import { useSession } from '../session'
import RemoveVersion from '../version/RemoveVersion.vue'
import { useText } from '../version/text'
import VersionText from '../version/VersionText.vue'

// One version: its text, where it comes from, and what can be done with it.
const route = useRoute()
const router = useRouter()
const session = useSession()
const operator = session.may('operator')
const admin = session.may('admin')
const removing = ref(false)
const going = ref(false)
const of = computed(() => String(route.query.ref ?? ''))
const device = computed(() => of.value.split(/[@/]/)[0])
const { data: t, error } = useText(
  () => of.value,
  () => false,
  () => !going.value,
)
const v = computed(() => t.value?.version)
const { data: all } = useQuery({
  key: () => ['part', device.value, v.value?.part ?? ''],
  query: () => versionsOf(device.value, v.value!.part),
  enabled: () => !!v.value && !going.value,
})
// The page of the device compares nothing any more with a version that is gone.
const cache = useQueryCache()
function removed() {
  const part = v.value!.part
  cache.setQueryData(
    ['part', device.value, part],
    (all.value ?? []).filter((x) => x.ref !== v.value!.ref),
  )
  void router.replace('/devices/' + device.value)
}
const near = (by: number) => all.value?.find((x) => x.number === (v.value?.number ?? 0) + by)
const before = computed(() => (v.value ? (countedFrom(all.value ?? [], v.value) ?? near(-1)) : undefined))
const go = (by: number) => near(by) && void router.push('/version?ref=' + near(by)!.ref)
useKeys([
  { keys: '[', does: 'the version before', run: () => go(-1) },
  { keys: ']', does: 'the version after', run: () => go(1) },
])
const deeds = computed<Deed[]>(() => {
  const name = v.value?.ref ?? of.value
  return [
    { label: 'Compare with the newest', to: `/compare?from=${name}&to=${name.replace(/@.*$/, '@latest')}` },
    { label: 'Compare with the baseline', to: `/compare?from=${name.replace(/@.*$/, '@baseline')}&to=${name}` },
    ...(operator.value && session.me?.secrets && v.value?.lines ? [{ label: 'Edit it as another version', to: '/edit?ref=' + name }] : []),
    ...(admin.value && v.value ? [{ label: 'Delete this version', danger: true, run: () => (removing.value = true) }] : []),
  ]
})
</script>

<template>
  <ProblemNote :error="error" />
  <div v-if="t" style="--above: 10.5rem">
    <div class="mb-2 flex flex-wrap items-center gap-x-3 gap-y-1">
      <h1>
        <RouterLink :to="'/devices/' + device">{{ device }}</RouterLink>{{ ' '
        }}<template v-if="v">
          {{ v.part }} <span class="whitespace-nowrap">version {{ v.number }}</span></template
        >
      </h1>
      <MarkVersion v-if="v" :version="v" :can="operator" />
      <span v-if="v?.excluded" class="text-alarm">{{ v.excluded }}</span>
      <span class="grow"></span>
      <AppButton v-if="near(-1)" :to="'/version?ref=' + near(-1)!.ref" aria-label="The version before">← {{ near(-1)!.number }}</AppButton>
      <AppButton v-if="near(1)" :to="'/version?ref=' + near(1)!.ref" aria-label="The version after">{{ near(1)!.number }} →</AppButton>
      <AppButton v-if="before" :to="`/compare?from=${before.ref}&to=${v!.ref}`">What changed</AppButton>
      <AppButton v-if="operator" main :to="'/push?ref=' + (v?.ref ?? of)">{{
        v?.excluded === 'edited' ? 'Push it' : 'Put it back'
      }}</AppButton>
      <ActionMenu label="More" :deeds="deeds" />
    </div>
    <RemoveVersion v-if="removing && v" v-model:going="going" :version="v" @close="removing = false" @removed="removed" />
    <p v-if="t.sure" class="mb-2 text-faded">{{ t.sure }}</p>
    <VersionText v-if="!going" :key="of" :of="of">
      <section v-if="v">
        <h2 class="mb-1">Where it comes from</h2>
        <FactList
          :facts="[
            { word: 'taken' },
            { word: 'seen until', says: when(v.seen_until) },
            { word: 'changed by', says: v.author },
            { word: 'pulled', says: `${v.reason}, by ${v.actor}` },
            { word: 'serial', says: v.serial },
            { word: 'release', says: v.release },
            { word: 'note', says: v.note },
            { word: 'copies', says: v.copies === 1 ? 'here only' : v.copies },
            { word: 'change', says: v.number > 1 ? `+${v.added} −${v.removed}` : '' },
          ]"
        >
          <template #taken><TimeMark :at="v.taken_at" exact /></template>
        </FactList>
      </section>
    </VersionText>
  </div>
</template>
