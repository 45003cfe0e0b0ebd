<script setup lang="ts">
import { ElInputNumber, ElOption, ElSelect } from 'element-plus'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useKeys } from '@/composables/useKeys'
import { drag } from '@/lib/drag'
import {
  clockwise,
  facedBy,
  joined,
  levelledBy,
  straighten,
  turnOf,
  type Facing,
  type LevelStep,
} from '@/world/level'
import type * as THREE from 'three'
import type { World } from '@/world/World'

/** Levelling by hand: look straight on, draw along an edge that ought to be upright or level, or turn by degrees. */
const props = defineProps<{
  world: World
  kept: LevelStep[]
  /** Whether a place was put over the origin by hand. */
  centred: boolean
  kinds: { value: string; text: string }[]
  kind: string
}>()
const emit = defineEmits<{
  apply: [steps: LevelStep[], center?: number[] | null]
  kind: [kind: string]
  close: []
}>()
const { t } = useI18n()
const FACINGS: Facing[] = ['front', 'right', 'top']
const NUDGES = [-1, -0.1, 0.1, 1]
const facing = ref<Facing>('front')
const pending = ref<LevelStep[]>([])
const degrees = ref(0)
const line = ref<number[] | null>(null)
const pane = ref<SVGSVGElement>()
/** Places being pressed on the cloud: three on the ground, two along the front, or one that is to be the centre. */
type Picking = 'ground' | 'edge' | 'center'
const picking = ref<Picking | null>(null)
/** The place chosen as the centre, in the frame before what is pending. */
const center = ref<number[] | null>(null)
const picked = ref(0)
const places: THREE.Vector3[] = []
function pick(what: Picking) {
  picking.value = picking.value === what ? null : what
  picked.value = places.length = 0
  props.world.views.perspective()
  props.world.listen(picking.value ? place : null)
}
function place(p: THREE.Vector3) {
  if (picking.value === 'center') {
    center.value = p.clone().applyMatrix4(turnOf(pending.value).invert()).toArray()
    pick('center')
    show()
    return
  }
  places.push(p)
  picked.value = places.length
  if (places.length < (picking.value === 'ground' ? 3 : 2)) return
  const steps = picking.value === 'ground' ? levelledBy(places) : facedBy(places)
  for (const step of steps) pending.value = joined(pending.value, step)
  pick(picking.value!)
  show()
}
const told = computed(() =>
  [
    ...pending.value.map(([axis, d]) => `${axis} ${d > 0 ? '+' : ''}${d}°`),
    ...(center.value ? [t('level.centred')] : []),
  ].join(', '),
)

function show() {
  props.world.setTurn(turnOf(pending.value, center.value))
}
function look(from: Facing) {
  facing.value = from
  props.world.views.look(from)
}
function turn(clock: number) {
  if (!clock) return
  pending.value = joined(pending.value, clockwise(facing.value, clock))
  show()
}
function back() {
  if (center.value) center.value = null
  else pending.value = pending.value.slice(0, -1)
  show()
}
function down(e: PointerEvent) {
  if (e.button !== 0) return
  const r = pane.value!.getBoundingClientRect()
  const start = [e.clientX - r.left, e.clientY - r.top]
  const move = (m: PointerEvent) => (line.value = [...start, m.clientX - r.left, m.clientY - r.top])
  const up = () => {
    const [x1, y1, x2, y2] = line.value ?? [0, 0, 0, 0]
    line.value = null
    // a short line says little about an angle
    if (Math.hypot(x2 - x1, y2 - y1) > 24) turn(straighten(x2 - x1, y2 - y1))
  }
  drag(e, { move, up, cancel: () => (line.value = null) })
}
useKeys('box.level', [
  { keys: 'Escape', says: 'keys.close', act: () => emit('close') },
  { keys: 'Ctrl+Z', says: 'keys.undo', act: back },
])
let before: ReturnType<World['listen']> = null
onMounted(() => {
  before = props.world.listen(null)
  look('front')
})
onBeforeUnmount(() => {
  props.world.listen(before)
  props.world.setTurn(turnOf([]))
  props.world.views.perspective()
  props.world.views.home()
})
</script>

<template>
  <svg v-show="!picking" ref="pane" class="draw" :aria-label="t('level.hint')" @pointerdown="down">
    <line v-if="line" :x1="line[0]" :y1="line[1]" :x2="line[2]" :y2="line[3]" />
  </svg>
  <div class="strip over-world" role="group" :aria-label="t('box.level')">
    <p class="quiet">{{ picking ? t(`level.pick_${picking}`, { n: picked }) : t('level.hint') }}</p>
    <span class="seg"
      ><button v-for="f in FACINGS" :key="f" :aria-pressed="facing === f" @click="look(f)">
        {{ t(`world.${f}`) }}
      </button></span
    >
    <button class="plainbtn" :aria-pressed="picking === 'ground'" @click="pick('ground')">
      {{ t('level.ground') }}
    </button>
    <button class="plainbtn" :aria-pressed="picking === 'edge'" @click="pick('edge')">
      {{ t('level.edge') }}
    </button>
    <button class="plainbtn" :aria-pressed="picking === 'center'" @click="pick('center')">
      {{ t('level.center') }}
    </button>
    <button v-for="n in NUDGES" :key="n" class="plainbtn num" @click="turn(n)">
      {{ n > 0 ? '↻' : '↺' }} {{ Math.abs(n) }}°
    </button>
    <el-input-number
      v-model="degrees"
      :min="-180"
      :max="180"
      :controls="false"
      size="small"
      style="width: 64px"
      :aria-label="t('level.degrees')"
      @keyup.enter="turn(degrees)"
    />
    <button class="plainbtn" :disabled="!degrees" @click="turn(degrees)">{{ t('level.turn') }}</button>
    <span class="num told">{{ told || t('level.nothing') }}</span>
    <button class="plainbtn" :disabled="!pending.length && !center" @click="back">
      {{ t('finish.undo') }}
    </button>
    <span class="kinds">{{ t('level.kind') }}</span>
    <el-select
      :model-value="kind"
      size="small"
      style="width: 170px"
      :aria-label="t('level.kind')"
      @change="emit('kind', $event)"
    >
      <el-option v-for="k in kinds" :key="k.value" :value="k.value" :label="k.text" />
    </el-select>
    <button v-if="kept.length || centred" class="plainbtn" @click="emit('apply', [], null)">
      {{ t('level.found') }}
    </button>
    <button class="plainbtn" @click="emit('close')">{{ t('level.close') }}</button>
    <button
      class="take"
      :disabled="!pending.length && !center"
      @click="emit('apply', [...kept, ...pending], center ?? undefined)"
    >
      {{ t('level.apply') }}
    </button>
  </div>
</template>

<style scoped>
.draw {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  cursor: crosshair;
}
.draw line {
  stroke: var(--lichen);
  stroke-width: 2;
  stroke-dasharray: 7 4;
}
.strip {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
}
.strip p {
  flex-basis: 100%;
  font-size: 12.5px;
}
.kinds {
  font-size: 12.5px;
}
.told {
  font-size: 12.5px;
  flex: 1;
}
</style>
