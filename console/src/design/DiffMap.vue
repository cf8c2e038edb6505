<script setup lang="ts">
import { computed, ref, watchEffect } from 'vue'
import { theme } from '../composables/theme'
import type { Row } from './diff'

// Where the changes of a comparison are, over its whole length: what went on the left,
// what came on the right, and which stretch is in sight.
const props = defineProps<{ rows: Row[]; top: number; sight: number; height: number }>()
const emit = defineEmits<{ go: [row: number] }>()
const canvas = ref<HTMLCanvasElement>()
const scale = computed(() => props.height / Math.max(props.rows.length, props.sight, 1))

watchEffect(
  () => {
    const c = canvas.value
    if (!c || !props.height) return
    void theme.value
    const ink = getComputedStyle(c)
    const [gone, come] = [ink.getPropertyValue('--gone-ink'), ink.getPropertyValue('--added-ink')]
    c.width = 28
    c.height = props.height
    const to = c.getContext('2d')!
    let drawn = [-1, -1]
    props.rows.forEach((r, i) => {
      if (!r.change) return
      const y = Math.floor(i * scale.value)
      const tall = Math.max(2, scale.value)
      for (const right of [0, 1]) {
        if ((right ? r.right?.op !== 'add' : r.left?.op !== 'remove') || drawn[right] === y) continue
        drawn[right] = y
        to.fillStyle = right ? come : gone
        to.fillRect(right ? 15 : 3, y, 10, tall)
      }
    })
  },
  { flush: 'post' },
)
const jump = (e: MouseEvent) => emit('go', Math.floor(e.offsetY / scale.value))
</script>

<template>
  <div class="relative w-7 shrink-0 border-l border-rule bg-leaf" aria-hidden="true" @click="jump">
    <canvas ref="canvas" class="block w-full cursor-pointer"></canvas>
    <div
      class="pointer-events-none absolute inset-x-0 border-y border-violet bg-violet/10"
      :style="{ top: top * scale + 'px', height: Math.max(sight * scale, 4) + 'px' }"
    ></div>
  </div>
</template>
