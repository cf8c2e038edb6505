<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { get, post, type Job, type Preview } from '../api/call'
import ProblemNote from '../components/ProblemNote.vue'
import DifferenceList from '../components/DifferenceList.vue'
import { useAttempt } from '../composables/attempt'
import { zone } from '../composables/time'
import { useSession } from '../session'

const props = defineProps<{ id: string }>()
const router = useRouter()
const operator = useSession().may('operator')
const { data: p, error } = useQuery({
  key: () => ['preview', props.id],
  query: () => get<Preview>('/previews/' + encodeURIComponent(props.id)),
})

const typed = ref('')
const note = ref('')
const save = ref(true)
const hold = ref(false)
const leave = ref(false)
const end = ref('')
const override = ref('')
const landmarks = computed(() => (p.value?.landmarks ?? []).filter((l) => l.have.join('\n') !== l.want.join('\n')))
const within = ref('5m')
const whenEqual = ref(false)
const checks = ref('')
const { busy, trouble, attempt } = useAttempt()
const key = crypto.randomUUID() // one page makes one push, however often it is clicked
const onlySave = computed(() => p.value && !p.value.steps.length && p.value.unsaved && p.value.saves)
const something = computed(() => p.value && (p.value.steps.length > 0 || onlySave.value))

const otherwise = computed(() => ({
  path: '/push',
  query: {
    ref: (p.value?.target ?? '').split(',')[0],
    to: p.value?.device,
    method: p.value?.method,
    only: p.value?.only?.join('\n'),
    in_place: p.value?.in_place ? undefined : '1',
  },
}))
const blocks = ref('')
function choose() {
  const ref = (p.value?.target ?? '').split(',')[0]
  void router.push({ path: '/push', query: { ref, to: p.value?.device, only: blocks.value } })
}

// Later: a window of time, in which it is previewed again and then begins.
const later = ref(false)
const from = ref('')
const until = ref('')
const instant = (t: string) => (later.value && t ? new Date(t).toISOString() : undefined)

async function push() {
  if (!p.value || typed.value !== p.value.device) return
  await attempt(async () => {
    if (!p.value) return
    const j = await post<Job>(
      '/pushes',
      {
        preview: p.value.id,
        hash: p.value.hash,
        from: instant(from.value),
        until: instant(until.value),
        zone: later.value ? zone : undefined,
        no_save: !save.value,
        hold_restart: hold.value && staged.value,
        leave: leave.value && !whole.value,
        note: note.value,
        end_session: end.value || undefined,
        override: override.value || undefined,
        within: within.value && p.value.steps.length ? within.value : undefined,
        when_equal: whenEqual.value && !!within.value && p.value.steps.length > 0,
        checks: checks.value
          .split('\n')
          .map((c) => c.trim())
          .filter(Boolean),
      },
      { 'Idempotency-Key': key },
    )
    void router.push('/jobs/' + j.id)
  })
}
// The list shows what should go as gone and what is there as added; a change is the other way round.
const turned = (rs?: Preview['changes']) => (rs ?? []).map((r) => ({ ...r, have: r.want, want: r.have }))
const changes = computed(() => turned(p.value?.changes))
const others = computed(() => (p.value?.methods ?? []).filter((m) => m !== p.value?.method))
const again = (method: string) => ({ path: '/push', query: { ref: (p.value?.target ?? '').split(',')[0], to: p.value?.device, method } })
const staged = computed(() => p.value?.method === 'stage')
const whole = computed(() => p.value?.steps[0]?.kind === 'load' || staged.value)
const methods: Record<string, string> = {
  merge: 'leaving other lines',
  upload: 'the file as it was pulled',
  stage: 'writing startup and restarting into it',
}
const windows = {
  '1m': 'within a minute',
  '5m': 'within 5 minutes',
  '15m': 'within 15 minutes',
  '1h': 'within an hour',
  '8h': 'within 8 hours',
  '24h': 'within a day',
  '': 'never: it stays',
}
const ink = {
  set: 'text-added-ink bg-added',
  remove: 'text-gone-ink bg-gone',
  enter: '',
  leave: 'text-faded',
  live: '',
  load: '',
  commit: '',
  stage: '',
  restart: '',
}
</script>

<template>
  <ProblemNote :error="error" />
  <template v-if="p">
    <h1 class="mb-3">
      Put {{ p.target }}<template v-if="p.target_name"> ({{ p.target_name }})</template>{{ ' ' }}
      <template v-if="p.swap">on the new unit of {{ p.device }}</template
      ><template v-else>back on {{ p.device }}</template>
    </h1>
    <div class="grid gap-4 lg:grid-cols-[1fr_22rem]">
      <section class="min-w-0">
        <h2 v-if="p.steps.length" class="mb-2">
          <template v-if="whole">Sent as a whole, in these steps</template
          ><template v-else>{{ p.lines }} {{ p.lines === 1 ? 'line' : 'lines' }} to send, in this order</template>
        </h2>
        <p v-else class="mb-2">
          {{ p.device }} runs {{ p.target }} already; nothing to send.<template v-if="p.unsaved">
            But it is not saved: startup does not hold what runs.</template
          >
        </p>
        <ol v-if="p.steps.length" class="card overflow-x-auto py-1 font-mono text-[13px] leading-5">
          <li v-for="(s, i) in p.steps" :key="i" class="flex" :class="ink[s.kind]">
            <span class="w-10 shrink-0 pr-3 text-right text-faded select-none">{{ i + 1 }}</span>
            <span class="w-4 shrink-0 select-none">{{ s.kind === 'set' ? '+' : s.kind === 'remove' ? '−' : '' }}</span>
            <span class="whitespace-pre"
              ><b v-if="whole" class="font-semibold">{{ s.kind }}&nbsp;</b>{{ '  '.repeat(s.depth) + s.lines.join('\n') }}</span
            ><i v-if="s.assumed" class="pl-4 text-faded">assumed</i>
          </li>
        </ol>
        <p v-if="p.assumed" class="mt-2 text-faded">
          No rule of the dialect speaks of {{ p.assumed === 1 ? '1 line' : `${p.assumed} lines` }}: that
          {{ p.assumed === 1 ? 'it does' : 'they do' }}
          what most lines do is assumed.
        </p>
        <template v-if="p.changes.length">
          <h2 class="mt-4 mb-2">What that changes in {{ p.part }}</h2>
          <DifferenceList :differences="changes" />
        </template>
        <template v-if="p.set_aside.length">
          <h2 class="mt-4 mb-2">Set aside, for it belongs to the hardware that {{ p.target }} was taken from</h2>
          <DifferenceList :differences="p.set_aside" />
        </template>
        <template v-if="p.loaded.length">
          <h2 class="mt-4 mb-2">Loaded into the candidate by somebody, and not committed</h2>
          <DifferenceList :differences="turned(p.loaded)" />
        </template>
        <div v-for="w in p.warnings" :key="w" class="mt-3 rounded border-2 border-alarm px-3 py-2">
          <b class="text-alarm">Warning:</b> {{ w }}
        </div>
        <div v-for="w in p.notes" :key="w" class="mt-3 rounded border border-gone-mark bg-gone px-3 py-2 text-gone-ink">
          <b>Note:</b> {{ w }}
        </div>
        <p v-if="operator && (p.beside || p.in_place) && !p.swap && !p.undo_of" class="mt-2">
          <RouterLink :to="otherwise">{{ p.beside ? 'Take it apart where it stands instead' : 'Build it anew beside instead' }}</RouterLink>
        </p>
        <template v-if="landmarks.length">
          <h2 class="mt-4 mb-2">Landmarks that change</h2>
          <div class="card overflow-x-auto">
            <table class="w-full text-left">
              <thead class="text-faded">
                <tr>
                  <th class="p-2 font-normal"></th>
                  <th class="p-2 font-normal">runs now</th>
                  <th class="p-2 font-normal">in {{ p.target }}</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="l in landmarks" :key="l.name" class="border-t border-rule">
                  <td class="p-2 text-faded">{{ l.name }}</td>
                  <td class="p-2">{{ l.have.join(', ') || 'none' }}</td>
                  <td class="p-2">{{ l.want.join(', ') || 'none' }}</td>
                </tr>
              </tbody>
            </table>
          </div>
        </template>
        <template v-if="p.remaining.length">
          <h2 class="mt-4 mb-2">Would still differ from {{ p.target }}</h2>
          <DifferenceList :differences="p.remaining" />
        </template>
        <details class="mt-4">
          <summary class="cursor-pointer font-semibold">What it is expected to run afterwards</summary>
          <pre class="card mt-2 max-h-96 overflow-auto p-3 font-mono text-[13px]" tabindex="0">{{ p.predicted }}</pre>
        </details>
      </section>
      <aside>
        <dl class="card mb-4 grid grid-cols-[auto_1fr] gap-x-3 gap-y-1 p-3">
          <template v-if="p.swap">
            <dt class="text-faded">new unit</dt>
            <dd>
              serial {{ p.swap.new_serial }}, {{ p.swap.new_model }}, release {{ p.swap.new_release
              }}<template v-if="p.factory">, with factory settings</template>
            </dd>
            <dt class="text-faded">in place of</dt>
            <dd>serial {{ p.swap.old_serials.join(' or ') }}, {{ p.swap.old_model }}</dd>
          </template>
          <template v-else
            ><dt class="text-faded">device</dt>
            <dd>{{ p.device }}, serial {{ p.serial }}<template v-if="p.factory">, with factory settings</template></dd></template
          >
          <template v-if="p.at || p.relay"
            ><dt class="text-faded">spoken to</dt>
            <dd>
              <template v-if="p.at">at {{ p.at }} for now</template><template v-if="p.relay"> through relay {{ p.relay }}</template>
            </dd></template
          >
          <dt class="text-faded">runs now</dt>
          <dd>{{ p.base }}</dd>
          <dt class="text-faded">method</dt>
          <dd>
            {{ p.method }}, {{ methods[p.method] ?? 'to end equivalent to the version'
            }}<template v-if="operator && p.steps.length && !p.swap && !p.undo_of && !p.only?.length"
              ><template v-for="m in others" :key="m">
                · <RouterLink :to="again(m)">{{ m }} instead</RouterLink></template
              ></template
            >
          </dd>
        </dl>
        <details v-if="operator && !whole && p.steps.length && !p.swap && !p.undo_of" class="card mb-4 p-3">
          <summary class="cursor-pointer font-semibold">Only some blocks of it</summary>
          <form class="mt-2 grid gap-2" @submit.prevent="choose">
            <label class="grid gap-1"
              >One a line, by their lines or how those begin<textarea
                v-model="blocks"
                class="field min-h-16 font-mono text-[13px]"
                name="only"
                spellcheck="false"
                placeholder="lane quay1&#10;flock 7 / neighbour 10.0.0.1"
              ></textarea>
            </label>
            <button class="button justify-center" :disabled="!blocks.trim()">Preview only these</button>
          </form>
        </details>
        <form v-if="operator && something" class="card grid gap-3 p-3" @submit.prevent="push">
          <template v-if="p.steps.length">
            <label class="grid gap-1"
              >Goes back by itself unless confirmed
              <select v-model="within" class="field" name="within">
                <option v-for="(words, w) in windows" :key="w" :value="w">{{ words }}</option>
              </select>
            </label>
            <p v-if="within" class="text-faded">Undone {{ p.undo }}.</p>
            <p v-else-if="p.touches_management_path" class="text-gone-ink">
              It touches what the device is reached by: with a window it goes back by itself if contact is lost.
            </p>
            <p v-else class="text-gone-ink">If the device can no longer be reached, nothing brings it back.</p>
            <label v-if="within" class="flex gap-2"
              ><input v-model="whenEqual" type="checkbox" class="accent-violet" />confirm by itself when proved equal and every check is as
              good as before</label
            >
            <label class="grid gap-1"
              >Checks before and after, one a line<textarea
                v-model="checks"
                class="field min-h-16 font-mono text-[13px]"
                name="checks"
                spellcheck="false"
                placeholder="tcp 10.40.12.1:443&#10;from skerrinsay-r1 ping 10.1.12.1"
              ></textarea>
            </label>
          </template>
          <label v-if="staged && p.steps.length" class="flex gap-2"
            ><input v-model="hold" type="checkbox" class="accent-violet" name="hold-restart" />leave the restart to later; the window begins
            with it</label
          >
          <label v-if="p.steps.length && !whole" class="flex gap-2"
            ><input v-model="leave" type="checkbox" class="accent-violet" name="leave" />if a line is refused, leave what was applied before
            it</label
          >
          <label v-if="p.saves" class="flex gap-2"
            ><input v-model="save" type="checkbox" class="accent-violet" />save to startup
            {{ within && p.steps.length ? 'when it is confirmed' : 'afterwards' }}</label
          >
          <template v-if="p.steps.length && !p.swap && !p.at && !p.relay">
            <label class="flex gap-2"
              ><input v-model="later" type="checkbox" class="accent-violet" name="later" />do it later, in a window of time</label
            >
            <div v-if="later" class="grid gap-2">
              <label class="grid gap-1">from<input v-model="from" type="datetime-local" class="field" name="from" required /></label>
              <label class="grid gap-1">begun by<input v-model="until" type="datetime-local" class="field" name="until" required /></label>
              <p class="text-faded">Times are in {{ zone }}. It is previewed again then, and asks if something else would be sent.</p>
            </div>
          </template>
          <label v-if="p.warnings.length" class="grid gap-1 text-alarm"
            >Why it is done despite the {{ p.warnings.length === 1 ? 'warning' : 'warnings'
            }}<input v-model="override" class="field" name="override" required
          /></label>
          <label class="grid gap-1">Why (kept in the audit log)<input v-model="note" class="field" /></label>
          <details>
            <summary class="cursor-pointer text-faded">Somebody's session holds it?</summary>
            <label class="mt-1 grid gap-1"
              >End this session first (the number an earlier attempt named)<input
                v-model="end"
                class="field"
                name="end-session"
                autocomplete="off"
            /></label>
            <p v-if="end && !note" class="mt-1 text-gone-ink">Say why above; whoever it is may ask.</p>
          </details>
          <label class="grid gap-1"
            ><span
              >Type <b>{{ p.device }}</b> to go ahead</span
            ><input v-model="typed" class="field" name="confirm" autocomplete="off" spellcheck="false"
          /></label>
          <ProblemNote :error="trouble" />
          <button
            class="button-main justify-center"
            :disabled="
              typed !== p.device || busy || (!!end && !note) || (p.warnings.length > 0 && !override) || (later && (!from || !until))
            "
          >
            {{
              onlySave ? 'Save what runs' : later ? 'Plan it' : whole ? 'Push it' : `Push ${p.lines} ${p.lines === 1 ? 'line' : 'lines'}`
            }}
          </button>
        </form>
        <RouterLink class="mt-3 inline-block" :to="'/devices/' + p.device">Back to {{ p.device }}, sending nothing</RouterLink>
      </aside>
    </div>
  </template>
</template>
