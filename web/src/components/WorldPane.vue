<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useTheme } from '@/composables/useTheme'
import { useKeys } from '@/composables/useKeys'
import { drag } from '@/lib/drag'
import { World, type Part } from '@/world/World'
import type { Facing } from '@/world/level'

const props = defineProps<{
  parts: Part[]
  legend?: string
  comparing?: boolean
  /** A still picture of the first view, shown until something is drawn. */
  poster?: string | null
}>()
const emit = defineEmits<{ ready: [world: World] }>()
const { t } = useI18n()
const canvas = ref<HTMLCanvasElement>()
const world = shallowRef<World | null>(null)
const hidden = ref<Set<Part>>(new Set())
const line = ref(0.5)
const shown = ref(false)
/** How much is being loaded: what is there stays until the new one is. */
const busy = ref(0)
const still = ref<HTMLImageElement>()
const SIDES: Facing[] = ['front', 'right', 'back', 'left', 'top', 'below']

onMounted(async () => {
  // starting WebGL can take seconds on a machine without a graphics card: the still picture goes first
  if (still.value) {
    const patience = new Promise((done) => setTimeout(done, 600))
    await Promise.race([still.value.decode().catch(() => undefined), patience])
    await new Promise((done) => requestAnimationFrame(() => setTimeout(done, 0)))
  }
  if (!canvas.value) return // gone meanwhile
  world.value = new World(canvas.value)
  world.value.onFilled = () => (shown.value = true)
  world.value.onBusy = (more) => (busy.value += more)
  emit('ready', world.value)
})
onBeforeUnmount(() => world.value?.dispose())
defineExpose({ world })
/** Whether the graphics card has let go: the browser may give it back by itself. */
const lost = ref(false)
function restored() {
  lost.value = false
  world.value?.request()
}
const again = () => window.location.reload()
const { dusk } = useTheme()
watch(dusk, (d) => world.value?.setDusk(d))

useKeys('keys.world', [
  { keys: 'F', says: 'keys.frame', act: () => world.value?.views.frameAll() },
  { keys: 'H', says: 'keys.home', act: home },
])

function home() {
  world.value?.views.perspective()
  world.value?.views.home(true)
}

function toggle(part: Part) {
  const next = new Set(hidden.value)
  if (next.has(part)) next.delete(part)
  else next.add(part)
  hidden.value = next
  world.value?.show(part, !next.has(part))
}

function dragLine(e: PointerEvent) {
  const r = canvas.value!.getBoundingClientRect()
  drag(e, {
    move: (m) => {
      line.value = Math.min(0.98, Math.max(0.02, (m.clientX - r.left) / r.width))
      if (world.value) world.value.split = line.value
      world.value?.request()
    },
  })
  e.preventDefault()
}
</script>

<template>
  <div class="world">
    <img v-if="props.poster && !shown" ref="still" class="poster" :src="props.poster" alt="" />
    <canvas
      ref="canvas"
      :class="{ waiting: props.poster && !shown }"
      tabindex="0"
      :aria-label="t('world.hint')"
      @webglcontextlost.prevent="lost = true"
      @webglcontextrestored="restored"
    ></canvas>
    <p v-if="lost" class="lost" role="alert">
      {{ t('app.lost') }} <button class="plainbtn" @click="again">{{ t('app.reload') }}</button>
    </p>
    <p v-if="busy > 0" class="busy" role="status">{{ t('world.loading') }}</p>
    <slot></slot>
    <div
      v-if="props.comparing"
      class="line"
      :style="{ left: `${line * 100}%` }"
      role="separator"
      aria-orientation="vertical"
      :aria-label="t('world.line')"
      @pointerdown="dragLine"
    ></div>
    <div class="views">
      <button class="plainbtn" title="F" @click="world?.views.frameAll()">{{ t('world.all') }}</button>
      <button v-for="s in SIDES" :key="s" class="plainbtn" @click="world?.views.look(s)">
        {{ t(`world.${s}`) }}
      </button>
    </div>
    <div class="legend">
      <button v-for="p in props.parts" :key="p" :aria-pressed="!hidden.has(p)" @click="toggle(p)">
        <i class="swatch" :class="[p, { off: hidden.has(p) }]"></i>{{ t(`world.${p}`) }}
      </button>
      <span v-if="props.legend">{{ props.legend }}</span>
    </div>
  </div>
</template>

<style scoped>
.world {
  position: relative;
  overflow: hidden;
  background: radial-gradient(120% 90% at 50% 20%, var(--sky1), var(--sky2) 75%, var(--sky3));
  touch-action: none;
}
.lost {
  position: absolute;
  inset: auto 0 50%;
  margin: 0 auto;
  width: fit-content;
  padding: 10px 14px;
  background: var(--paper);
  border: 1px solid var(--joint);
  z-index: 3;
}
canvas {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  display: block;
}
/* ground and box would lie over the still picture */
.waiting {
  opacity: 0;
}
.poster {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  object-fit: contain;
  pointer-events: none;
}
.views,
.legend {
  z-index: 1;
}
.views {
  position: absolute;
  right: 10px;
  top: 10px;
  display: flex;
  flex-direction: column;
  gap: 4px;
  align-items: stretch;
}
.views .plainbtn {
  font-size: 12px;
  padding: 1px 8px;
  background: color-mix(in srgb, var(--paper) 82%, transparent);
}
.legend {
  position: absolute;
  left: 10px;
  bottom: 10px;
  display: flex;
  gap: 12px;
  font-size: 12.5px;
  background: color-mix(in srgb, var(--paper) 86%, transparent);
  padding: 4px 10px;
  border-radius: 5px;
  flex-wrap: wrap;
  max-width: calc(100% - 20px);
}
.legend button {
  border: 0;
  background: none;
  cursor: pointer;
  padding: 0;
  color: var(--ink2);
}
.busy {
  position: absolute;
  top: 10px;
  left: 50%;
  transform: translateX(-50%);
  margin: 0;
  padding: 4px 12px;
  border-radius: 5px;
  background: color-mix(in srgb, var(--paper) 90%, transparent);
  z-index: 1;
}
/* each part in the colour that it is drawn in; hollow where it is hidden */
.swatch {
  display: inline-block;
  width: 11px;
  height: 11px;
  margin-right: 5px;
  vertical-align: -1px;
  border: 1px solid var(--ink2);
  background: #a8957c;
}
.swatch.mesh {
  background: linear-gradient(135deg, #cbbd9f 50%, #8f8063 50%);
}
.swatch.cloud {
  background: radial-gradient(#6b5d47 32%, transparent 36%) 0 0 / 5px 5px;
}
.swatch.box {
  background: none;
  border: 1.5px dashed var(--ochre);
}
.swatch.ground {
  background:
    linear-gradient(#9993 0 0) 50% 0 / 1px 100% no-repeat,
    linear-gradient(#999 0 0) 0 50% / 100% 1px no-repeat,
    linear-gradient(#999 0 0) 50% 0 / 1px 100% no-repeat;
}
.swatch.cameras {
  background: var(--lichen);
}
.swatch.off {
  background: none;
  opacity: 0.55;
}
.legend button[aria-pressed='true'] {
  color: var(--ink);
}
.line {
  position: absolute;
  top: 0;
  bottom: 0;
  width: 9px;
  margin-left: -4px;
  cursor: ew-resize;
  background: linear-gradient(90deg, transparent 4px, var(--lichen) 4px 6px, transparent 6px);
}
</style>
