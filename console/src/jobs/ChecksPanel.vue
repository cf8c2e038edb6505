<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { post, type Checked, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import { once } from '../composables/once'
import AppButton from '../design/AppButton.vue'
import ProblemNote from '../design/ProblemNote.vue'
import CheckTable from '../push/CheckTable.vue'

// What came of checks that were made by themselves, and the same once more, compared with it.
const props = defineProps<{ job: Job; may: boolean }>()
const router = useRouter()
const end = computed(() => props.job.result as { against?: string; rows: (Checked & { device?: string })[] })
const { busy, trouble, attempt } = useAttempt()
const again = () =>
  attempt(async () => {
    const j = await post<Job>('/checks', { again: props.job.id }, { 'Idempotency-Key': once() })
    void router.push('/jobs/' + j.id)
  })
</script>

<template>
  <section>
    <div class="mb-1 flex flex-wrap items-center gap-3">
      <h2>Checks</h2>
      <RouterLink v-if="end.against" :to="'/jobs/' + end.against">compared with the earlier look</RouterLink>
      <span class="grow"></span>
      <AppButton v-if="may" :busy="busy" @click="again">Check again, and compare</AppButton>
    </div>
    <ProblemNote :error="trouble" />
    <CheckTable :checks="end.rows" />
  </section>
</template>
