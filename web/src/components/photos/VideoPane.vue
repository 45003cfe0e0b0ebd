<script setup lang="ts">
import { ElInputNumber, ElOption, ElSelect, ElSwitch } from 'element-plus'
import { useDebounceFn, useElementSize } from '@vueuse/core'
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type ChoiceIn, type Chosen, type Video } from '@/api/client'
import { useKeys } from '@/composables/useKeys'
import { drag } from '@/lib/drag'
import { clock, nearest } from '@/lib/video'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import VideoCurve from '@/components/photos/VideoCurve.vue'

/** A video: dragged along without decoding it, ranges kept with keys, frames chosen before they are taken. */
const props = defineProps<{ video: Video }>()
const { t } = useI18n()
const project = useProject()
const jobs = useJobs()
const at = ref(0)
const choice = ref<Required<ChoiceIn>>({
  by: 'motion',
  degrees: 10,
  step: 10,
  rate: 2,
  count: 60,
  ranges: [],
  crop: [0, 0, 0, 0],
  crops: [],
  scale: 1,
  one_turn: false,
})
const begin = ref<number | null>(null)
const chosen = shallowRef<Chosen | null>(null)
const problem = ref('')
const strip = ref<HTMLElement>()
const { width } = useElementSize(strip)

const time = computed(() => props.video.times[at.value] ?? 0)
const picture = (k: number) =>
  `/api/v1/projects/${project.id}/videos/${encodeURIComponent(props.video.name)}/picture/${k}`
/** Little pictures along the strip, as many as fit. */
const stills = computed(() => {
  const n = Math.max(1, Math.floor(width.value / 72))
  return Array.from({ length: n }, (_, k) => Math.round(((k + 0.5) / n) * (props.video.proxies - 1)))
})
const x = (seconds: number) => (100 * seconds) / Math.max(props.video.seconds, 1e-6)
type Crop = [number, number, number, number]
/** The kept range that is shown, and what is cut off there: its own crop, or that of all. */
const range = computed(() =>
  choice.value.ranges.findIndex(([a, b]) => time.value >= a - 1e-6 && time.value <= b + 1e-6),
)
const ownCrop = computed(() => (choice.value.crops[range.value] ?? null) as Crop | null)
const crop = computed(() => ownCrop.value ?? choice.value.crop)
function setCrop(next: Crop) {
  if (!ownCrop.value) choice.value.crop = next
  else choice.value.crops = choice.value.crops.map((c, k) => (k === range.value ? next : c))
}
const setSide = (side: number, pixels: number) =>
  setCrop(crop.value.map((c, k) => (k === side ? Math.max(0, pixels) : c)) as Crop)
function ofRange(on: boolean) {
  choice.value.crops = choice.value.ranges.map((_, k) =>
    k === range.value ? (on ? ([...choice.value.crop] as Crop) : null) : (choice.value.crops[k] ?? null),
  )
}
const ticks = computed(() => (chosen.value?.times ?? []).flat())

const choose = useDebounceFn(async () => {
  const answer = await api.POST('/api/v1/projects/{project_id}/videos/{name}/choose', {
    params: { path: { project_id: project.id, name: props.video.name } },
    body: choice.value,
  })
  chosen.value = answer.data ?? null
  problem.value = answer.error ? String((answer.error as { detail?: unknown }).detail) : ''
}, 150)
watch([choice, () => props.video.looked], () => props.video.looked && choose(), {
  deep: true,
  immediate: true,
})

function scrub(e: PointerEvent) {
  const r = strip.value!.getBoundingClientRect()
  const move = (m: PointerEvent) => {
    const seconds = ((m.clientX - r.left) / r.width) * props.video.seconds
    at.value = nearest(props.video.times, seconds)
  }
  move(e)
  drag(e, { move })
}
const go = (by: number) => (at.value = Math.min(props.video.proxies - 1, Math.max(0, at.value + by)))
useKeys('keys.video', [
  { keys: 'ArrowRight', says: 'keys.nextFrame', act: () => go(1) },
  { keys: 'ArrowLeft', says: 'keys.previousFrame', act: () => go(-1) },
  { keys: 'PageDown', says: 'keys.framesOn', act: () => go(20) },
  { keys: 'PageUp', says: 'keys.framesBack', act: () => go(-20) },
  { keys: 'I', says: 'keys.rangeFrom', act: () => (begin.value = time.value) },
  { keys: 'O', says: 'keys.rangeTo', act: keepTo },
])
/** Keep from where the range was begun to here. */
function keepTo() {
  if (begin.value === null || time.value === begin.value) return
  const range: [number, number] = [Math.min(begin.value, time.value), Math.max(begin.value, time.value)]
  const kept = [...choice.value.ranges, range].map((r, k) => ({ r, crop: choice.value.crops[k] ?? null }))
  kept.sort((a, b) => a.r[0] - b.r[0])
  choice.value = { ...choice.value, ranges: kept.map((k) => k.r), crops: kept.map((k) => k.crop) }
  begin.value = null
}
const working = computed(() => jobs.active.some((j) => j.project_id === project.id))
const look = () =>
  ask(
    api.POST('/api/v1/projects/{project_id}/videos/{name}/look', {
      params: { path: { project_id: project.id, name: props.video.name } },
    }),
  )
const take = () =>
  ask(
    api.POST('/api/v1/projects/{project_id}/videos/{name}/take', {
      params: { path: { project_id: project.id, name: props.video.name } },
      body: choice.value,
    }),
  )
</script>

<template>
  <div class="video">
    <div class="big">
      <p v-if="!video.looked" class="emptynote">
        {{ working ? t('video.looking') : t('video.notLooked') }}
        <button v-if="!working" class="plainbtn" @click="look">{{ t('video.look') }}</button>
      </p>
      <div v-else class="frame" :style="{ aspectRatio: `${video.width} / ${video.height}` }">
        <img :src="picture(at)" :alt="t('video.at', { time: clock(time) })" draggable="false" />
        <span
          class="cut"
          :style="{
            left: `${(100 * crop[0]) / video.width}%`,
            top: `${(100 * crop[1]) / video.height}%`,
            right: `${(100 * crop[2]) / video.width}%`,
            bottom: `${(100 * crop[3]) / video.height}%`,
          }"
        ></span>
      </div>
      <span class="cap num"
        >{{ video.name }} · {{ video.width }} × {{ video.height }} · {{ clock(time) }} /
        {{ clock(video.seconds) }}</span
      >
    </div>
    <div v-if="video.looked" class="line num">
      <div ref="strip" class="strip" @pointerdown="scrub">
        <img v-for="(k, n) in stills" :key="n" :src="picture(k)" alt="" draggable="false" />
        <i
          v-for="(r, k) in choice.ranges"
          :key="k"
          class="range"
          :style="{ left: `${x(r[0])}%`, width: `${x(r[1] - r[0])}%` }"
        ></i>
        <i v-if="begin !== null" class="from" :style="{ left: `${x(begin)}%` }"></i>
        <i class="now" :style="{ left: `${x(time)}%` }"></i>
      </div>
      <VideoCurve :video="video" :ticks="ticks" />
      <div class="set">
        <button class="plainbtn" title="B" @click="begin = time">{{ t('video.begin') }}</button>
        <button class="plainbtn" title="N" :disabled="begin === null" @click="keepTo">
          {{ t('video.end') }}
        </button>
        <button
          v-if="choice.ranges.length"
          class="plainbtn"
          @click="((choice.ranges = []), (choice.crops = []))"
        >
          {{ t('video.whole') }}
        </button>
        <label>{{ t('video.by') }}</label>
        <el-select v-model="choice.by" size="small" style="width: 130px" :aria-label="t('video.by')">
          <el-option
            v-for="b in ['motion', 'step', 'rate', 'count']"
            :key="b"
            :value="b"
            :label="t(`video.${b}`)"
          />
        </el-select>
        <el-input-number
          v-if="choice.by === 'motion'"
          v-model="choice.degrees"
          :min="0.5"
          :max="60"
          :step="1"
          :controls="false"
          size="small"
          style="width: 70px"
          :aria-label="t('video.degrees')"
          :title="t('video.degrees')"
        />
        <el-input-number
          v-else
          v-model="choice[choice.by]"
          :min="choice.by === 'rate' ? 0.1 : 1"
          :controls="false"
          size="small"
          style="width: 70px"
          :aria-label="t(`video.${choice.by}`)"
        />
        <label v-if="video.laps.length"
          ><el-switch
            v-model="choice.one_turn"
            size="small"
            :aria-label="t('video.turns', { n: video.laps.length })"
          />
          {{ t('video.turns', { n: video.laps.length }) }}</label
        >
        <span class="edges">
          {{ t('video.crop') }}
          <label v-for="k in [0, 1, 2, 3]" :key="k"
            >{{ t(`video.side${k}`) }}
            <el-input-number
              :model-value="crop[k]"
              :min="0"
              :controls="false"
              size="small"
              style="width: 46px"
              :aria-label="t('video.cropAt', { side: t(`video.side${k}`) })"
              @change="setSide(k, Number($event))"
          /></label>
          px
        </span>
        <button
          v-if="video.crop.some((c) => c > 0)"
          class="plainbtn"
          @click="setCrop([...video.crop] as Crop)"
        >
          {{ t('video.still') }}
        </button>
        <label>{{ t('video.scale') }}</label>
        <el-select v-model="choice.scale" size="small" style="width: 80px" :aria-label="t('video.scale')">
          <el-option v-for="k in [1, 0.75, 0.5, 0.25]" :key="k" :value="k" :label="`${100 * k} %`" />
        </el-select>
        <label v-if="range >= 0"
          ><el-switch
            size="small"
            :model-value="!!ownCrop"
            :aria-label="t('video.cropRange')"
            @change="ofRange(Boolean($event))"
          />
          {{ t('video.cropRange') }}</label
        >
        <button class="go" :disabled="!chosen" @click="take">
          <b>{{ t('video.take', { n: chosen?.count ?? 0 }) }}</b>
        </button>
        <span v-if="problem" class="bad">{{ problem }}</span>
      </div>
    </div>
  </div>
</template>

<style scoped>
.video {
  display: grid;
  grid-template-rows: minmax(0, 1fr) auto;
  min-height: 0;
  flex: 1;
}
.big {
  position: relative;
  background: var(--surround);
  display: grid;
  place-items: center;
  min-height: 0;
  overflow: hidden;
}
.frame {
  position: relative;
  height: 100%;
  max-width: 100%;
}
.frame img {
  width: 100%;
  height: 100%;
  display: block;
}
.cut {
  position: absolute;
  outline: 4000px solid color-mix(in srgb, var(--surround) 60%, transparent);
  box-shadow: 0 0 0 1px var(--ochre);
}
.cap {
  position: absolute;
  left: 10px;
  top: 9px;
  color: #fff;
  background: #000a;
  border-radius: 4px;
  padding: 2px 8px;
  font-size: 12.5px;
}
.line {
  background: var(--stone);
  border-top: 1px solid var(--joint);
  padding: 8px 12px;
}
.strip {
  position: relative;
  display: flex;
  height: 54px;
  overflow: hidden;
  border-radius: 4px;
  cursor: ew-resize;
  touch-action: none;
}
.strip img {
  flex: 1;
  min-width: 0;
  object-fit: cover;
}
.strip i {
  position: absolute;
  top: 0;
  bottom: 0;
  pointer-events: none;
}
.now {
  width: 2px;
  background: #fff;
  box-shadow: 0 0 0 1px #000;
}
.from {
  border-left: 3px dashed var(--ochre);
}
.range {
  background: color-mix(in srgb, var(--lichen) 40%, transparent);
  border: solid var(--lichen);
  border-width: 3px 2px;
}
.set {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
  font-size: 12.5px;
}
.edges {
  display: flex;
  gap: 6px;
  align-items: center;
}
.go {
  margin-left: auto;
}
.bad {
  color: var(--rust);
}
</style>
