<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { photoUrl, tileUrl } from '@/api/client'
import { drag } from '@/lib/drag'
import { pinch } from '@/lib/pinch'
import { PREVIEW, tilesInView } from '@/lib/tiles'
import { useProject } from '@/stores/project'

const props = defineProps<{
  path: string | null
  overlay?: string | null
  ties?: { tied: number[][]; untied: number[][] } | null
  caption?: string
  /** Draw what tied features miss their points by, so many times enlarged. */
  enlarged?: number
  /** Mark where the cursor is. */
  crossed?: boolean
}>()
const emit = defineEmits<{ place: [x: number, y: number] }>()
const { t } = useI18n()
const project = useProject()
const pane = ref<HTMLDivElement>()
/** Several panes may share one zoom. */
const zoom = defineModel<number>('zoom', { default: 1 })
const shift = defineModel<number[]>('shift', { default: () => [0, 0] })
/** And one cursor: where the pointer is, in shares of the photo's sides. */
const cursor = defineModel<number[] | null>('cursor', { default: null })
const natural = ref([1, 1])
/** The overlay that has been loaded: until then the pane says that it comes. */
const there = ref<string | null>(null)

const photo = computed(() => project.photos.find((p) => p.path === props.path) ?? null)
const size = computed(() => [photo.value?.width ?? natural.value[0], photo.value?.height ?? natural.value[1]])
const room = useElementSize(pane)
const src = computed(() => (props.path ? photoUrl(project.id, 'thumb', props.path, PREVIEW) : ''))
/** Tiles over the preview where it is too coarse for the zoom. */
const tiles = computed(() => {
  if (!props.path) return []
  const path = props.path
  const view = {
    room: [room.width.value, room.height.value],
    size: size.value,
    zoom: zoom.value,
    shift: shift.value,
  }
  return tilesInView(view, window.devicePixelRatio).map((k) => ({ ...k, src: tileUrl(project.id, path, k) }))
})
/** The photos before and after are fetched meanwhile, so that flipping through is quick. */
watch(
  () => props.path,
  (path) => {
    const at = project.photos.findIndex((p) => p.path === path)
    for (const next of [project.photos[at + 1], project.photos[at - 1]])
      if (at >= 0 && next && !next.problem)
        new Image().src = photoUrl(project.id, 'thumb', next.path, PREVIEW)
  },
)
watch(
  () => props.path,
  () => fit(),
)

function loaded(image: HTMLImageElement) {
  natural.value = [image.naturalWidth, image.naturalHeight]
  fetchEarly()
}
/** Tiles of the middle at one to one, fetched while the whole photo is looked at. */
const early = new Map<string, HTMLImageElement>()
let waiting = 0
function fetchEarly() {
  window.clearTimeout(waiting)
  const path = props.path
  waiting = window.setTimeout(() => {
    if (!path || path !== props.path || !(oneToOne() > 1)) return
    const view = {
      room: [room.width.value, room.height.value],
      size: size.value,
      zoom: oneToOne(),
      shift: [0, 0],
    }
    early.clear()
    for (const tile of tilesInView(view, window.devicePixelRatio)) {
      const image = new Image()
      image.src = tileUrl(project.id, path, tile)
      void image.decode().catch(() => undefined)
      early.set(image.src, image)
    }
  }, 200)
}
onBeforeUnmount(() => {
  window.clearTimeout(waiting)
  early.clear()
})

function fit() {
  zoom.value = 1
  shift.value = [0, 0]
}

/** One photo pixel on one screen pixel. */
function one() {
  zoom.value = Math.max(1, oneToOne())
}
function oneToOne() {
  return 1 / Math.min(room.width.value / size.value[0], room.height.value / size.value[1])
}

/** Larger or smaller by a factor about a place in the window, which stays where it is. */
function zoomAt(client: [number, number], by: number) {
  const r = pane.value!.getBoundingClientRect()
  const x = client[0] - r.left - r.width / 2
  const y = client[1] - r.top - r.height / 2
  const next = Math.min(40, Math.max(1, zoom.value * by))
  const k = next / zoom.value
  shift.value = next === 1 ? [0, 0] : [x - (x - shift.value[0]) * k, y - (y - shift.value[1]) * k]
  zoom.value = next
}
const wheel = (e: WheelEvent) => zoomAt([e.clientX, e.clientY], Math.exp(-e.deltaY * 0.0015))
let noPinch = () => {}
onMounted(() => {
  noPinch = pinch(pane.value!, ({ by, middle, moved }) => {
    zoomAt(middle, by)
    if (zoom.value > 1) shift.value = [shift.value[0] + moved[0], shift.value[1] + moved[1]]
  })
})
onBeforeUnmount(() => noPinch())

function down(e: PointerEvent) {
  const from = [e.clientX - shift.value[0], e.clientY - shift.value[1]]
  let moved = false
  const move = (m: PointerEvent) => {
    const next = [m.clientX - from[0], m.clientY - from[1]]
    moved ||= Math.hypot(m.clientX - e.clientX, m.clientY - e.clientY) > 4
    if (zoom.value > 1) shift.value = next
  }
  drag(e, { move, up: (m) => moved || point(m) })
}
/** Where on the photo the pointer is, in shares of its sides; null beside it. */
function placeOf(e: PointerEvent): [number, number] | null {
  const img = pane.value?.querySelector('.frame')?.getBoundingClientRect()
  if (!img?.width) return null
  const x = (e.clientX - img.left) / img.width
  const y = (e.clientY - img.top) / img.height
  return x >= 0 && x <= 1 && y >= 0 && y <= 1 ? [x, y] : null
}
/** A click on the photo names a place on it. */
function point(e: PointerEvent) {
  const at = placeOf(e)
  if (at) emit('place', ...at)
}
</script>

<template>
  <div
    ref="pane"
    class="photo"
    @wheel.prevent="wheel"
    @pointerdown="down"
    @pointermove="cursor = placeOf($event)"
    @pointerleave="cursor = null"
    @dblclick="zoom > 1 ? fit() : one()"
  >
    <p v-if="!path" class="emptynote">{{ t('photos.empty') }}</p>
    <div
      v-else
      class="frame"
      :style="{
        aspectRatio: `${size[0]} / ${size[1]}`,
        transform: `translate(${shift[0]}px, ${shift[1]}px) scale(${zoom})`,
        '--ratio': size[0] / size[1],
      }"
    >
      <img :src="src" :alt="path" draggable="false" @load="loaded($event.target as HTMLImageElement)" />
      <img
        v-for="k in tiles"
        :key="`${path} ${k.level} ${k.x} ${k.y}`"
        class="tile"
        :src="k.src"
        alt=""
        draggable="false"
        :style="{
          left: `${(100 * k.left) / size[0]}%`,
          top: `${(100 * k.top) / size[1]}%`,
          width: `${(100 * k.width) / size[0]}%`,
          height: `${(100 * k.height) / size[1]}%`,
        }"
      />
      <img
        v-if="overlay"
        class="over"
        :class="{ waiting: overlay !== there }"
        :src="overlay"
        alt=""
        draggable="false"
        @load="there = overlay ?? null"
        @error="there = overlay ?? null"
      />
      <svg v-if="ties" class="over" :viewBox="`0 0 ${size[0]} ${size[1]}`">
        <circle
          v-for="(p, k) in ties.untied"
          :key="`u${k}`"
          :cx="p[0]"
          :cy="p[1]"
          :r="size[0] / 320"
          class="untied"
        />
        <circle
          v-for="(p, k) in ties.tied"
          :key="`t${k}`"
          :cx="p[0]"
          :cy="p[1]"
          :r="size[0] / 300"
          class="tied"
        />
        <template v-if="enlarged">
          <line
            v-for="(p, k) in ties.tied"
            :key="`e${k}`"
            :x1="p[0]"
            :y1="p[1]"
            :x2="p[0] + enlarged * p[2]"
            :y2="p[1] + enlarged * p[3]"
            class="miss"
          />
        </template>
      </svg>
      <i
        v-if="cursor && crossed"
        class="cross"
        :style="{ left: `${100 * cursor[0]}%`, top: `${100 * cursor[1]}%`, transform: `scale(${1 / zoom})` }"
      ></i>
      <slot :aspect="size[0] / size[1]"></slot>
    </div>
    <span v-if="path" class="cap photo-words"
      >{{ caption ?? path
      }}<template v-if="overlay && overlay !== there"> · {{ t('world.loading') }}</template></span
    >
    <span v-if="$slots.key" class="key photo-words"><slot name="key"></slot></span>
    <span v-if="path" class="zoom photo-buttons">
      <button class="plainbtn" @click.stop="fit">{{ t('photos.fit') }}</button>
      <button class="plainbtn" @click.stop="one">{{ t('photos.one') }}</button>
    </span>
  </div>
</template>

<style scoped>
.photo {
  position: relative;
  background: var(--surround);
  overflow: hidden;
  height: 100%;
  display: grid;
  place-items: center;
  container-type: size;
  touch-action: none;
}
.frame {
  position: relative;
  width: min(100cqw, calc(100cqh * var(--ratio)));
  max-height: 100%;
}
.frame img {
  width: 100%;
  height: 100%;
  display: block;
  user-select: none;
}
.frame .tile {
  position: absolute;
}
.frame .over {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
}
.over.waiting {
  opacity: 0;
}
.key {
  position: absolute;
  left: 10px;
  top: auto;
  bottom: 10px;
}
.cross {
  position: absolute;
  width: 0;
  height: 0;
  pointer-events: none;
}
.cross::before,
.cross::after {
  content: '';
  position: absolute;
  background: #fff;
  box-shadow: 0 0 2px #000;
}
.cross::before {
  inset: -0.75px -11px;
}
.cross::after {
  inset: -11px -0.75px;
}
.tied {
  fill: #6ff0e0;
  stroke: #06312f;
  stroke-width: 0.6;
}
.miss {
  stroke: #ffd76a;
  stroke-width: 1.4;
  vector-effect: non-scaling-stroke;
}
.untied {
  fill: none;
  stroke: #f6e8cb;
  stroke-width: 0.8;
  opacity: 0.6;
}
</style>
