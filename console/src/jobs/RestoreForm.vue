<script setup lang="ts">
import { computed, reactive } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import FormField from '../design/FormField.vue'
import GoBar from '../push/GoBar.vue'
import { windows } from '../push/safety'
import { once } from '../composables/once'

// How many devices are put back, once it was looked at what that takes.
const props = defineProps<{ job: Job }>()
const router = useRouter()
const rows = computed(() => props.job.restore_preview?.rows.filter((r) => !r.skip) ?? [])
const warnings = computed(() => rows.value.some((r) => r.warnings.length))
const form = reactive({ within: '5m', together: false, stopAfter: 1, note: '', override: '' })
const { busy, trouble, attempt } = useAttempt()
const key = once()
const begin = () =>
  attempt(async () => {
    const j = await post<Job>(
      '/restores',
      {
        restore_preview: props.job.id,
        within: form.within || undefined,
        together: (form.together && !!form.within) || undefined,
        override: form.override || undefined,
        stop_after: form.stopAfter,
        note: form.note || undefined,
      },
      { 'Idempotency-Key': key },
    )
    void router.push('/jobs/' + j.id)
  })
const lacks = computed(() => (warnings.value && !form.override ? 'say why it is done despite the warnings' : ''))
</script>

<template>
  <template v-if="rows.length">
    <section class="card grid gap-3 p-3 sm:grid-cols-2 lg:grid-cols-4" aria-label="Safety">
      <FormField v-model="form.within" label="Each goes back unless confirmed" name="within" type="select" :options="windows" />
      <FormField v-model="form.stopAfter" label="Stop after failures" name="stop-after" type="number" :min="1" />
      <FormField v-model="form.note" label="Why" name="note" class="lg:col-span-2" />
      <FormField
        v-if="form.within"
        v-model="form.together"
        type="check"
        name="together"
        label="one window for all, from now on"
        class="lg:col-span-2"
      />
      <FormField
        v-if="warnings"
        v-model="form.override"
        class="text-alarm lg:col-span-2"
        label="Why it is done despite the warnings"
        name="override"
        required
      />
    </section>
    <GoBar
      :name="String(rows.length)"
      :deed="`Push to ${rows.length} ${rows.length === 1 ? 'device' : 'devices'}`"
      :lacks="lacks"
      :busy="busy"
      :trouble="trouble"
      back="/"
      @go="begin"
    />
  </template>
</template>
