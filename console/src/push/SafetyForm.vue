<script setup lang="ts">
import { computed } from 'vue'
import type { Preview } from '../api/call'
import { zone } from '../composables/time'
import FormField from '../design/FormField.vue'
import { useSession } from '../session'
import { windows, type useSafety } from './safety'

// What makes a push safe: a window in which it goes back by itself, checks before and
// after, and when it is done.
const props = defineProps<{ preview: Preview; safety: ReturnType<typeof useSafety> }>()
const admin = useSession().may('admin')
const why = computed(() => {
  const { warnings, approval } = props.preview
  const alone = approval && admin.value ? ', and without a second person' : ''
  if (!warnings.length) return 'To go ahead without a second person: why'
  return `Why it is done despite the ${warnings.length === 1 ? 'warning' : 'warnings'}${alone}`
})
const { form, staged, whole, checks } = props.safety
function suggest(c: string) {
  form.checks = checks.value.includes(c) ? checks.value.filter((x) => x !== c).join('\n') : [...checks.value, c].join('\n')
}
</script>

<template>
  <section class="card grid gap-3 p-3" aria-label="Safety">
    <template v-if="preview.steps.length">
      <FormField v-model="form.within" label="Goes back by itself unless confirmed" name="within" type="select" :options="windows" />
      <p v-if="form.within" class="text-faded">Undone {{ preview.undo }}.</p>
      <p v-else-if="preview.touches_management_path" class="text-gone-ink">
        It touches what the device is reached by: with a window it goes back by itself if contact is lost.
      </p>
      <p v-else class="text-gone-ink">If the device can no longer be reached, nothing brings it back.</p>
      <FormField
        v-if="form.within"
        v-model="form.whenEqual"
        type="check"
        label="confirm by itself when verified and every check is as good as before"
        name="when-verified"
      />
      <FormField
        v-model="form.checks"
        label="Checks before and after, one a line"
        name="checks"
        type="area"
        mono
        placeholder="tcp 10.40.12.1:443&#10;from skerrinsay-r1 ping 10.1.12.1"
      />
      <div v-if="preview.suggested.length" class="flex flex-wrap gap-1" role="group" aria-label="Checks that would tell">
        <button
          v-for="c in preview.suggested"
          :key="c"
          type="button"
          class="button is-small mono"
          :aria-pressed="checks.includes(c)"
          @click="suggest(c)"
        >
          {{ checks.includes(c) ? '✓' : '+' }} {{ c }}
        </button>
      </div>
    </template>
    <FormField
      v-if="staged && preview.steps.length"
      v-model="form.hold"
      type="check"
      name="hold-restart"
      label="leave the restart to later; the window begins with it"
    />
    <FormField
      v-if="preview.steps.length && !whole"
      v-model="form.leave"
      type="check"
      name="leave"
      label="if a line is refused, leave what was applied before it"
    />
    <FormField
      v-if="preview.saves"
      v-model="form.save"
      type="check"
      name="save"
      :label="`save to startup ${form.within && preview.steps.length ? 'when it is confirmed' : 'afterwards'}`"
    />
    <template v-if="preview.steps.length && !preview.swap && !preview.at && !preview.relay">
      <FormField v-model="form.later" type="check" name="later" label="do it later, in a window of time" />
      <div v-if="form.later" class="grid gap-2">
        <FormField v-model="form.from" label="from" name="from" type="datetime-local" required />
        <FormField v-model="form.until" label="begun by" name="until" type="datetime-local" required />
        <p class="text-faded">Times are in {{ zone }}. It is previewed again then, and asks if something else would be sent.</p>
      </div>
    </template>
    <FormField
      v-if="preview.warnings.length || (preview.approval && admin)"
      v-model="form.override"
      name="override"
      :required="preview.warnings.length > 0"
      class="text-alarm"
      :label="why"
    />
    <FormField v-model="form.note" label="Why (kept in the audit log)" name="note" />
    <details>
      <summary class="cursor-pointer text-faded">Name what ran before, and what is proved</summary>
      <div class="mt-1 grid gap-2 sm:grid-cols-2">
        <FormField v-model.trim="form.nameBefore" label="Before" name="name-before" placeholder="before-upgrade" />
        <FormField v-model.trim="form.nameAfter" label="After" name="name-after" placeholder="after-upgrade" />
      </div>
    </details>
    <details>
      <summary class="cursor-pointer text-faded">Somebody's session holds it?</summary>
      <FormField v-model="form.end" class="mt-1" label="End this session first (the number an earlier attempt named)" name="end-session" />
    </details>
  </section>
</template>
