<script setup lang="ts">
import { computed, onBeforeUnmount, ref } from 'vue'
import { useRouter } from 'vue-router'
import { get, post, type Job } from '../api/call'
import { useAttempt } from '../composables/attempt'
import ProblemNote from './ProblemNote.vue'
import StateMark from './StateMark.vue'

// What putting many devices back would take, or how they came out.
const props = defineProps<{ job: Job; may: boolean }>()
const router = useRouter()
const fresh = ref<Job>() // pushes go on after the job that began them has ended
const now = computed(() => fresh.value ?? props.job)
const tick = setInterval(async () => {
  if (props.job.kind === 'restore' && now.value.restore?.rows.some((r) => ['waiting', 'running'].includes(r.outcome)))
    fresh.value = await get<Job>('/jobs/' + encodeURIComponent(props.job.id))
}, 1500)
onBeforeUnmount(() => clearInterval(tick))

const todo = computed(() => now.value.restore_preview?.rows.filter((r) => !r.skip).length ?? 0)
const waiting = computed(() => now.value.restore?.rows.filter((r) => r.outcome === 'waiting').length ?? 0)
const within = ref('5m')
const stopAfter = ref(1)
const note = ref('')
const typed = ref('')
const together = ref(false)
const override = ref('')
const warnings = computed(() => (now.value.restore_preview?.rows ?? []).filter((r) => !r.skip).some((r) => r.warnings.length))
const { busy, trouble, attempt } = useAttempt()
const key = crypto.randomUUID()

const begin = () =>
  attempt(async () => {
    const j = await post<Job>(
      '/restores',
      {
        restore_preview: props.job.id,
        within: within.value || undefined,
        together: (together.value && !!within.value) || undefined,
        override: override.value || undefined,
        stop_after: stopAfter.value,
        note: note.value || undefined,
      },
      { 'Idempotency-Key': key },
    )
    void router.push('/jobs/' + j.id)
  })
const decide = (what: 'confirm' | 'undo') =>
  attempt(async () => {
    fresh.value = await post<Job>('/jobs/' + encodeURIComponent(props.job.id) + '/' + what)
  })
</script>

<template>
  <section v-if="now.restore_preview" class="mb-4">
    <div class="card mb-3 overflow-x-auto">
      <table class="w-full text-left">
        <thead class="border-b border-rule bg-leaf">
          <tr>
            <th class="px-3 py-1.5">Device, in this order</th>
            <th class="px-3">To run</th>
            <th class="px-3">What it takes</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in now.restore_preview.rows" :key="r.device" class="border-b border-rule last:border-0">
            <td class="px-3 py-1.5">
              <RouterLink :to="'/devices/' + r.device">{{ r.device }}</RouterLink>
            </td>
            <td class="px-3">{{ r.target }}</td>
            <td class="px-3" :class="r.refused ? 'text-alarm' : r.skip ? 'text-faded' : ''">
              <template v-if="r.skip">{{ r.skip }}</template><RouterLink v-else :to="'/push/' + r.preview"
                >{{ r.lines }} {{ r.lines === 1 ? 'line' : 'lines' }} to send</RouterLink
              ><template v-if="!r.skip"
                ><p v-for="w in r.warnings" :key="w" class="text-alarm">Warning: {{ w }}</p></template
              >
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <form v-if="may && todo" class="card flex flex-wrap items-end gap-3 p-3" @submit.prevent="begin">
      <label class="grid gap-1"
        >Each goes back unless confirmed<select v-model="within" class="field" name="within">
          <option value="5m">within 5 minutes</option>
          <option value="15m">within 15 minutes</option>
          <option value="1h">within an hour</option>
          <option value="">never: it stays</option>
        </select></label
      >
      <label v-if="within" class="flex gap-2"
        ><input v-model="together" type="checkbox" class="accent-violet" name="together" />one window for all, from now on</label
      >
      <label class="grid gap-1">Stop after failures<input v-model.number="stopAfter" type="number" min="1" class="field w-20" /></label>
      <label v-if="warnings" class="grid grow gap-1 text-alarm"
        >Why it is done despite the warnings<input v-model="override" class="field" name="override" required
      /></label>
      <label class="grid grow gap-1">Why<input v-model="note" class="field" name="note" /></label>
      <label class="grid gap-1"
        ><span
          >Type <b>{{ todo }}</b> to go ahead</span
        ><input v-model="typed" class="field w-24" name="confirm" autocomplete="off"
      /></label>
      <button class="button-main" :disabled="busy || typed !== String(todo) || (warnings && !override)">
        Push to {{ todo }} {{ todo === 1 ? 'device' : 'devices' }}
      </button>
    </form>
  </section>
  <section v-if="now.restore" class="mb-4">
    <div v-if="may && waiting" class="card mb-3 flex flex-wrap items-center gap-3 border-2 border-violet p-3">
      <p class="grow font-semibold">
        {{ waiting }} {{ waiting === 1 ? 'push waits' : 'pushes wait' }} to be confirmed; by themselves they go back.
      </p>
      <button type="button" class="button-main" :disabled="busy" @click="decide('confirm')">Keep all</button>
      <button type="button" class="button" :disabled="busy" @click="decide('undo')">Undo all</button>
    </div>
    <div class="card overflow-x-auto">
      <table class="w-full text-left">
        <thead class="border-b border-rule bg-leaf">
          <tr>
            <th class="px-3 py-1.5">Device</th>
            <th class="px-3">Came out</th>
            <th class="px-3">What it says</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in now.restore.rows" :key="r.device" class="border-b border-rule last:border-0">
            <td class="px-3 py-1.5">
              <RouterLink :to="r.job ? '/jobs/' + r.job : '/devices/' + r.device">{{ r.device }}</RouterLink>
            </td>
            <td class="px-3 whitespace-nowrap"><StateMark :state="r.outcome" /></td>
            <td class="px-3">{{ r.summary }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
  <ProblemNote :error="trouble" class="mb-3" />
</template>
