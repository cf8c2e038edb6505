<script setup lang="ts">
import { ref } from 'vue'
import { ApiError } from '../api/call'
import { turnTheme } from '../composables/theme'
import ActionMenu from './ActionMenu.vue'
import AgeBar from './AgeBar.vue'
import AppButton from './AppButton.vue'
import AppForm from './AppForm.vue'
import ChoiceBar from './ChoiceBar.vue'
import CopyButton from './CopyButton.vue'
import DataTable from './DataTable.vue'
import DiffPane from './DiffPane.vue'
import EmptyNote from './EmptyNote.vue'
import FactList from './FactList.vue'
import FormField from './FormField.vue'
import ModalDialog from './ModalDialog.vue'
import ProblemNote from './ProblemNote.vue'
import { type Berth, berths, columns, diff, problem, states, text } from './samples'
import SideDrawer from './SideDrawer.vue'
import StateMark from './StateMark.vue'
import TabBar from './TabBar.vue'
import TextPane from './TextPane.vue'
import TimeMark from './TimeMark.vue'

// Every component there is, in all its forms, beside its name.
const open = ref('')
const word = ref('quay')
const choice = ref('unified')
const ticked = ref(true)
const picked = ref<string[]>([])
const trouble = new ApiError(problem)
const inks = ['ink', 'faded', 'teal', 'violet', 'alarm', 'added-ink', 'gone-ink']
const papers = ['paper', 'leaf', 'marked', 'added', 'added-mark', 'gone', 'gone-mark']
const sizes = ['text-xs', 'text-sm', 'text-base', 'text-xl']
const options = ['quay', 'hall', 'mast'].map((v) => ({ value: v, label: v }))
const deeds = [{ label: 'Put a version back…' }, { label: 'Nothing to be done', off: true }, { label: 'Delete it', danger: true }]
const facts = [
  { word: 'model', says: 'Tern R4' },
  { word: 'host key', says: 'SHA256:made-up', mono: true },
]
const tabs = [
  { name: 'one', label: 'Versions', count: 4 },
  { name: 'two', label: 'Text' },
]
</script>

<template>
  <main class="mx-auto grid max-w-6xl gap-6 p-4">
    <h1>Design <AppButton small @click="turnTheme">Turn light or dark</AppButton></h1>
    <section data-sample="tokens" class="grid gap-2">
      <h2>Colours by meaning, and sizes of type</h2>
      <p class="flex flex-wrap gap-2">
        <span v-for="c in inks" :key="c" class="chip" :style="{ color: `var(--${c})` }">{{ c }}</span>
        <span v-for="c in papers" :key="c" class="chip px-3" :style="{ background: `var(--${c})` }">{{ c }}</span>
      </p>
      <p class="flex flex-wrap items-baseline gap-4">
        <span v-for="s in sizes" :key="s" :class="s">{{ s }}</span><span class="mono">mono</span><kbd>Ctrl K</kbd>
      </p>
    </section>
    <section data-sample="buttons" class="flex flex-wrap items-center gap-2">
      <h2>AppButton, ActionMenu, ChoiceBar, CopyButton</h2>
      <AppButton main>Pull all 29</AppButton><AppButton>What drifted</AppButton><AppButton danger>End it</AppButton>
      <AppButton small>Small</AppButton><AppButton main busy>Cannot yet</AppButton>
      <ActionMenu label="More" :deeds="deeds" />
      <ChoiceBar
        v-model="choice"
        label="Laid out"
        :choices="[
          { value: 'unified', label: 'Unified' },
          { value: 'beside', label: 'Side by side' },
        ]"
      />
      <CopyButton :text="() => text">Copy</CopyButton>
    </section>
    <section data-sample="marks" class="flex flex-wrap items-center gap-4">
      <h2>StateMark, TimeMark, AgeBar</h2>
      <StateMark v-for="s in states" :key="s" :state="s" />
      <TimeMark :at="berths[1].seen" /><TimeMark :at="berths[1].seen" exact /><TimeMark :at="null" />
      <AgeBar :at="berths[0].seen" :days="2" /><AgeBar :at="berths[1].seen" :days="2" /><AgeBar :at="null" :days="2" />
    </section>
    <section data-sample="form">
      <h2 class="mb-1">AppForm, FormField</h2>
      <AppForm across deed="Keep it" leaves :trouble="trouble">
        <FormField v-model="word" label="Name" hint="letters, digits and dashes" required />
        <FormField v-model="word" label="Site" problem="a site has no blanks" />
        <FormField v-model="word" label="Where" type="select" :options="options" />
        <FormField v-model="ticked" type="check" label="confirm by itself when verified" />
        <FormField v-model="word" class="form-whole" label="Checks, one a line" type="area" mono />
      </AppForm>
    </section>
    <section data-sample="notes" class="grid gap-2 sm:grid-cols-3">
      <div>
        <h2 class="mb-1">ProblemNote</h2>
        <ProblemNote :error="trouble" />
      </div>
      <div>
        <h2 class="mb-1">FactList</h2>
        <FactList :facts="facts" />
      </div>
      <div>
        <h2 class="mb-1">EmptyNote</h2>
        <EmptyNote title="No snapshots yet">A snapshot names versions.</EmptyNote>
      </div>
    </section>
    <section data-sample="table">
      <h2 class="mb-1">DataTable</h2>
      <DataTable
        v-model:picked="picked"
        name="Sample"
        :columns="columns"
        :rows="berths"
        :row-id="(b: Berth) => b.name"
        :group="(b: Berth) => b.site"
        picks
      >
        <template #group-head="{ rows }"
          ><span class="text-faded">{{ rows.length }}</span></template
        >
        <template #state="{ row }"><StateMark :state="row.state" /></template>
        <template #seen="{ row }"><TimeMark :at="row.seen" /></template>
      </DataTable>
    </section>
    <section data-sample="tabs">
      <h2 class="mb-1">TabBar</h2>
      <TabBar :tabs="tabs" label="Sample">
        <template #one>The first one's content.</template><template #two>The second one's.</template>
      </TabBar>
    </section>
    <section data-sample="text" style="--above: 100dvh">
      <h2 class="mb-1">TextPane</h2>
      <TextPane
        label="Sample text"
        :text="text"
        :blocks="[
          [3, 5],
          [6, 7],
        ]"
        :comments="[1]"
      />
    </section>
    <section data-sample="diff" style="--above: 100dvh">
      <h2 class="mb-1">DiffPane</h2>
      <DiffPane :diff="diff" beside />
    </section>
    <section data-sample="dialogs" class="flex gap-2">
      <h2>ModalDialog, SideDrawer</h2>
      <AppButton @click="open = 'dialog'">Open a dialog</AppButton><AppButton @click="open = 'drawer'">Open a drawer</AppButton>
      <ModalDialog v-if="open === 'dialog'" title="A dialog" @close="open = ''"><p>What it is about.</p></ModalDialog>
      <SideDrawer v-if="open === 'drawer'" title="A drawer" @close="open = ''"><p>What it is about.</p></SideDrawer>
    </section>
  </main>
</template>
