<script setup lang="ts">
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type CameraOut, type PairOut } from '@/api/client'
import { useProject } from '@/stores/project'
import { ramp } from '@/world/build'

/** Which photo matches which: a field of squares, photos in their order both ways; a press shows the two with their matches. */
const props = defineProps<{ cameras: CameraOut[]; number: number }>()
const emit = defineEmits<{ pair: [a: number, b: number] }>()
const { t } = useI18n()
const project = useProject()
const pairs = shallowRef<PairOut[]>([])
const field = ref<HTMLCanvasElement>()
const under = ref<PairOut | null>(null)
const SIDE = 172
const n = computed(() => props.cameras.length)
const name = (row: number) => props.cameras.find((c) => c.row === row)?.photo ?? ''
const most = computed(() => Math.max(1, ...pairs.value.map((p) => p.matches)))
/** Pairs that the alignment contradicts. */
const denied = computed(() => pairs.value.filter((p) => p.agrees !== null && p.agrees < 0.25))
const chosen = computed(() => props.cameras.find((c) => c.photo === project.selected)?.row ?? null)
/** Pairs of the chosen photo, by how much they share. */
const partners = computed(() =>
  pairs.value
    .filter((p) => p.a === chosen.value || p.b === chosen.value)
    .sort((p, q) => q.matches - p.matches)
    .slice(0, 24),
)

watch(
  () => props.number,
  async () =>
    (pairs.value = await ask(api.GET('/api/v1/projects/{project_id}/layers/cameras/pairs', project.path))),
  { immediate: true },
)
watch([pairs, chosen], draw)
onMounted(draw)
function draw() {
  const canvas = field.value
  const g = canvas?.getContext('2d')
  if (!canvas || !g) return
  const k = window.devicePixelRatio
  canvas.width = canvas.height = SIDE * k
  const cell = canvas.width / Math.max(1, n.value)
  g.clearRect(0, 0, canvas.width, canvas.height)
  const style = getComputedStyle(canvas)
  if (chosen.value !== null) {
    g.fillStyle = style.getPropertyValue('--joint')
    g.fillRect(0, chosen.value * cell, canvas.width, cell)
    g.fillRect(chosen.value * cell, 0, cell, canvas.height)
  }
  for (const p of pairs.value) {
    g.fillStyle =
      p.agrees !== null && p.agrees < 0.25
        ? style.getPropertyValue('--el-color-danger')
        : `rgb(${ramp(Math.sqrt(p.matches / most.value)).join(' ')})`
    for (const [a, b] of [
      [p.a, p.b],
      [p.b, p.a],
    ])
      g.fillRect(a * cell, b * cell, Math.max(1, cell - 0.5), Math.max(1, cell - 0.5))
  }
}
function at(e: MouseEvent): PairOut | null {
  const r = field.value!.getBoundingClientRect()
  const [i, j] = [e.clientX - r.left, e.clientY - r.top].map((x) => Math.floor((x / r.width) * n.value))
  const [a, b] = [Math.min(i, j), Math.max(i, j)]
  return pairs.value.find((p) => p.a === a && p.b === b) ?? null
}
function press(e: MouseEvent) {
  const p = at(e)
  if (p) emit('pair', p.a, p.b)
}
const told = (p: PairOut) =>
  t('pairs.told', {
    n: p.matches,
    agrees: p.agrees === null ? '' : t('pairs.agrees', { n: Math.round(100 * p.agrees) }),
  })
</script>

<template>
  <div class="pairs" role="region" :aria-label="t('pairs.title')">
    <canvas
      ref="field"
      role="img"
      :aria-label="t('pairs.title')"
      :style="{ width: `${SIDE}px`, height: `${SIDE}px` }"
      @pointermove="under = at($event)"
      @pointerleave="under = null"
      @click="press"
    ></canvas>
    <div class="side">
      <p>
        {{ t('pairs.summary', { pairs: pairs.length, photos: n }) }}
        <b v-if="denied.length">{{ t('pairs.denied', { n: denied.length }) }}</b>
      </p>
      <p class="quiet">
        {{ under ? `${name(under.a)} – ${name(under.b)}: ${told(under)}` : t('pairs.hint') }}
      </p>
      <ul v-if="chosen !== null" class="num">
        <li v-for="p in partners" :key="`${p.a} ${p.b}`">
          <button
            class="plainbtn"
            :title="told(p)"
            @click="emit('pair', chosen!, p.a === chosen ? p.b : p.a)"
          >
            {{ name(p.a === chosen ? p.b : p.a) }} · {{ p.matches }}
          </button>
        </li>
      </ul>
    </div>
  </div>
</template>

<style scoped>
.pairs {
  height: 190px;
  display: flex;
  gap: 16px;
  padding: 8px 12px;
  background: var(--paper);
  border-top: 1px solid var(--joint);
  overflow: hidden;
}
canvas {
  background: var(--stone);
  cursor: pointer;
  flex: none;
}
.side {
  flex: 1;
  min-width: 0;
  overflow: auto;
  font-size: 13px;
}
p {
  margin: 2px 0 6px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
b {
  color: var(--el-color-danger);
  font-weight: 600;
}
</style>
