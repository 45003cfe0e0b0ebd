<script setup lang="ts">
import { ElInputNumber } from 'element-plus'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Vector3 } from 'three'
import ScreenShape from '@/components/ScreenShape.vue'
import { useClearing, type Joining, type ShapeWay } from '@/composables/useClearing'
import { useKeys } from '@/composables/useKeys'
import { toClip, type ShapeTool } from '@/lib/screen'
import { count as written } from '@/lib/format'
import type { World } from '@/world/World'

/** Choose points of the cloud in many ways, delete them, and save what is left as a version. */
const props = defineProps<{ world: World; version: number; budget: number; stated: boolean }>()
const emit = defineEmits<{ close: [] }>()
const { t } = useI18n()
type Tool = 'turn' | ShapeTool | 'color' | 'part'
const SHAPES: ShapeTool[] = ['rectangle', 'outline', 'lasso', 'brush']
const JOININGS: Joining[] = ['new', 'add', 'take', 'both']
/** Small fields beside the buttons that use them. */
const NUMBER = { controls: false, size: 'small', style: 'width: 52px' } as const
const tool = ref<Tool>('rectangle')
const shape = ref<number[][]>([])
const radius = ref(22)
const within = ref(12)
const most = ref(3)
const over = ref(1)
/** Whether a shape takes only what lies in front, not what it covers behind. */
const front = ref(false)
const clearing = useClearing(
  computed(() => props.world),
  computed(() => props.version),
  props.budget,
)
const { draft, terms, chosen, joining, waiting, canUndo, canRedo } = clearing
const drawing = computed(() => SHAPES.find((s) => s === tool.value) ?? null)
const count = computed(() => chosen.value?.count ?? 0)
/** The plane that was laid last, to be moved to one side of it. */
const plane = computed(() => terms.value.findLast((x) => x.kind === 'plane'))

onMounted(() => {
  setTool('rectangle')
  void clearing.fetchDraft()
})
onBeforeUnmount(() => {
  setTool('turn')
  props.world.setPointStates(null)
})

/** Counts how often a tool was taken: each time the surface is a fresh one, and has the focus. */
const taken = ref(0)
function setTool(next: Tool) {
  // who brushes over a spot means what is seen there; who frames a region, all in it
  if (next === 'brush' || tool.value === 'brush') front.value = next === 'brush'
  tool.value = next
  taken.value++
  shape.value = []
  props.world.setTool(!!drawing.value)
  props.world.listen(next === 'color' || next === 'part' ? pressed : null)
}
const turnAway = () => (tool.value === 'turn' ? emit('close') : setTool('turn'))
function pressed(p: Vector3) {
  const at = p.toArray() as [number, number, number]
  if (tool.value === 'color') void clearing.find('color', at, within.value)
  else void clearing.find('part', at)
}
function drawn(held: { shift: boolean; alt: boolean }) {
  const { width, height } = props.world.canvas.getBoundingClientRect()
  const path = toClip(shape.value, width, height)
  const matrix = props.world.matrix()
  shape.value = []
  const way: ShapeWay =
    tool.value === 'brush'
      ? { kind: 'brush', path, radius: (2 * radius.value) / height, aspect: width / height, matrix }
      : { kind: 'outline', outline: path, matrix }
  if (front.value) void clearing.find('front', null, undefined, way, held)
  else void clearing.add(way, held)
}
function side(s: 'near' | 'above' | 'below') {
  const last = plane.value
  if (last) void clearing.setTerms(terms.value.map((x) => (x === last ? { ...last, side: s } : x)))
}
useKeys('clear.title', [
  { keys: 'Ctrl+Z', says: 'keys.undo', act: clearing.undo },
  { keys: 'Ctrl+Shift+Z', says: 'keys.redo', act: clearing.redo },
  { keys: 'Ctrl+Y', says: 'keys.redo', act: clearing.redo },
  { keys: 'Delete', says: 'keys.deletePoints', act: () => count.value && clearing.remove(false) },
  { keys: 'Escape', says: 'keys.noTool', act: turnAway },
])
defineExpose({ loaded: clearing.show })
</script>

<template>
  <Teleport :to="world.canvas.parentElement">
    <ScreenShape
      v-if="drawing"
      :key="taken"
      v-model="shape"
      :tool="drawing"
      :world="world"
      :radius="radius"
      :label="t('clear.byKeys')"
      @done="drawn"
    />
  </Teleport>
  <div class="bar" role="group" :aria-label="t('clear.title')">
    <span class="seg"
      ><button
        v-for="k in ['turn', ...SHAPES] as Tool[]"
        :key="k"
        :aria-pressed="tool === k"
        @click="setTool(k)"
      >
        {{ t(`clear.${k}`) }}
      </button></span
    >
    <label v-if="tool === 'brush'" class="inline"
      >{{ t('clear.radius') }}
      <el-input-number
        v-model="radius"
        :min="2"
        :max="300"
        :controls="false"
        size="small"
        style="width: 48px"
      />
      px</label
    >
    <button
      v-if="drawing"
      class="plainbtn"
      :aria-pressed="front"
      :title="t('clear.frontHint')"
      @click="front = !front"
    >
      {{ t('clear.front') }}
    </button>
    <span class="seg" role="radiogroup" :aria-label="t('clear.joining')"
      ><button
        v-for="j in JOININGS"
        :key="j"
        role="radio"
        :aria-checked="joining === j"
        :title="t(`clear.hints.${j}`)"
        @click="joining = j"
      >
        {{ t(`clear.${j}`) }}
      </button></span
    >
    <button class="plainbtn end" @click="emit('close')">{{ t('clear.close') }}</button>
  </div>
  <Teleport to="#tray-top">
    <div class="tools">
      <p class="quiet">{{ t('clear.hint') }}</p>
      <div class="way">
        <button class="plainbtn" :aria-pressed="tool === 'color'" @click="setTool('color')">
          {{ t('clear.color') }}
        </button>
        <el-input-number
          v-model="within"
          v-bind="NUMBER"
          :min="1"
          :max="100"
          :aria-label="t('clear.within')"
        />
      </div>
      <div class="way">
        <button class="plainbtn" @click="clearing.add({ kind: 'views', most })">
          {{ t('clear.views') }}
        </button>
        <el-input-number v-model="most" v-bind="NUMBER" :min="1" :max="100" :aria-label="t('clear.views')" />
      </div>
      <div v-if="stated" class="way">
        <button class="plainbtn" @click="clearing.add({ kind: 'precision', over })">
          {{ t('clear.precision') }}
        </button>
        <el-input-number
          v-model="over"
          v-bind="NUMBER"
          :min="0.05"
          :max="50"
          :step="0.1"
          :aria-label="t('clear.precision')"
        />
      </div>
      <div class="way">
        <button class="plainbtn" :aria-pressed="tool === 'part'" @click="setTool('part')">
          {{ t('clear.part') }}
        </button>
        <button class="plainbtn" @click="clearing.find('strays')">{{ t('clear.strays') }}</button>
      </div>
      <div class="way">
        <button class="plainbtn" :disabled="!count" @click="clearing.find('plane')">
          {{ t('clear.plane') }}
        </button>
        <span v-if="plane" class="seg"
          ><button
            v-for="s in ['near', 'above', 'below'] as const"
            :key="s"
            :aria-pressed="(plane.side ?? 'near') === s"
            @click="side(s)"
          >
            {{ t(`clear.${s}`) }}
          </button></span
        >
      </div>
      <div class="way">
        <button class="plainbtn" :disabled="!terms.length" @click="clearing.turnRound()">
          {{ t('clear.turnRound') }}
        </button>
        <button class="plainbtn" :disabled="!terms.length" @click="clearing.forget()">
          {{ t('clear.none') }}
        </button>
      </div>
      <b class="num" role="status">{{
        waiting ? t('clear.working') : t('clear.chosen', { n: count, of: written(draft?.left ?? 0) })
      }}</b>
      <div class="way">
        <button class="plainbtn" :disabled="!count" @click="clearing.remove(false)">
          {{ t('clear.delete') }}
        </button>
        <button class="plainbtn" :disabled="!count" @click="clearing.remove(true)">
          {{ t('clear.keepOnly') }}
        </button>
      </div>
      <div class="way">
        <button class="plainbtn" :disabled="!canUndo" @click="clearing.undo()">{{ t('finish.undo') }}</button>
        <button class="plainbtn" :disabled="!canRedo" @click="clearing.redo()">{{ t('finish.redo') }}</button>
        <button v-if="draft?.done" class="plainbtn" @click="clearing.giveUp()">
          {{ t('clear.giveUp') }}
        </button>
      </div>
      <p v-if="draft && draft.on !== version" class="rust">
        {{ t('clear.other', { on: draft.on, now: version }) }}
      </p>
      <button
        v-if="draft?.earlier"
        class="plainbtn"
        :title="t('clear.earlierHint')"
        @click="clearing.bringBack()"
      >
        {{ t('clear.bringBack', { n: draft.earlier }) }}
      </button>
      <button class="go" :disabled="!draft?.done || !!waiting" @click="clearing.keep()">
        <b>{{ t('clear.save') }}</b>
      </button>
    </div>
  </Teleport>
</template>

<style scoped>
.way {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
}
.way > .plainbtn {
  flex: 1 1 auto;
}
.inline {
  display: inline-flex;
  gap: 6px;
  align-items: center;
}
.rust {
  color: var(--rust);
}
</style>
