<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type Dialect } from '../api/call'
import AppForm from '../design/AppForm.vue'
import FormField from '../design/FormField.vue'
import { useFleet } from '../fleet'
import RefField from '../version/RefField.vue'
import WantingList from './WantingList.vue'

// Which version is put on which device, and how.
const route = useRoute()
const router = useRouter()
const fleet = useFleet()
const to = ref(String(route.query.to ?? ''))
const what = ref(String(route.query.ref ?? (to.value ? to.value + '@' : '')))
const method = ref('')
const at = ref('')
const owner = computed(() => what.value.split(/[@/]/)[0])
const target = computed(() => fleet.byName.get(to.value || owner.value))
const { data: dialect } = useQuery({
  key: () => ['deed', 'dialect', target.value?.dialect ?? ''],
  query: () => get<Dialect>('/dialects/' + target.value!.dialect),
  enabled: () => !!target.value,
})
const methods = computed(() => [
  { value: '', label: `as its dialect prefers${dialect.value ? ': ' + dialect.value.methods[0] : ''}` },
  ...(dialect.value?.methods ?? []).map((m) => ({ value: m, label: m })),
])
const family = computed(() => {
  const d = fleet.byName.get(owner.value)
  return [
    { value: '', label: owner.value || 'the version’s own device' },
    ...fleet.devices.filter((x) => x.dialect === d?.dialect && x.name !== owner.value).map((x) => ({ value: x.name, label: x.name })),
  ]
})
if (to.value === owner.value) to.value = ''
const go = () =>
  void router.push({
    path: '/push',
    query: { ref: what.value.trim(), to: to.value || undefined, method: method.value || undefined, at: at.value.trim() || undefined },
  })
</script>

<template>
  <div class="grid grid-cols-[minmax(0,1fr)] items-start gap-4 lg:grid-cols-[minmax(20rem,32rem)_minmax(0,1fr)]">
    <AppForm class="card p-4" deed="See what would be sent" :unable="!/@./.test(what)" @send="go">
      <RefField v-model="what" label="Which version" name="ref" placeholder="skerrinsay-r1@baseline" />
      <FormField v-model="to" label="On which device" name="to" type="select" :options="family" />
      <FormField v-model="method" label="How" name="method" type="select" :options="methods" />
      <FormField
        v-model="at"
        label="Where its unit is for now, if not at its own address"
        name="at"
        placeholder="192.0.2.1"
        hint="the maker's address, or one on a bench"
      />
    </AppForm>
    <WantingList :key="owner" :device="fleet.byName.get(owner)" />
  </div>
</template>
