<script setup lang="ts">
import { ElMessage } from 'element-plus'
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { useLocalStorage, watchThrottled } from '@vueuse/core'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, photoUrl, type Photo, type Video } from '@/api/client'
import ContactSheet from '@/components/ContactSheet.vue'
import FilmStrip from '@/components/FilmStrip.vue'
import PhotoPane from '@/components/PhotoPane.vue'
import PickedStrip from '@/components/photos/PickedStrip.vue'
import PhotoFacts from '@/components/photos/PhotoFacts.vue'
import Proposals from '@/components/photos/Proposals.vue'
import TonePanel from '@/components/photos/TonePanel.vue'
import VideoPane from '@/components/photos/VideoPane.vue'
import SplitPane from '@/components/SplitPane.vue'
import StripChart from '@/components/StripChart.vue'
import { useHistory } from '@/composables/useHistory'
import { useKeys } from '@/composables/useKeys'
import { filesOf, useBring } from '@/composables/useBring'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import { say } from '@/i18n/say'

const { t } = useI18n()
const project = useProject()
const jobs = useJobs()
const over = ref(false)
const path = ref('')
const files = ref<HTMLInputElement>()
const folder = ref<HTMLInputElement>()

const photo = computed(() => project.photos.find((p) => p.path === project.selected) ?? null)
const FIGURES = [
  'sharpness_px',
  'ev_offset',
  'wb_offset',
  'too_dark_percent',
  'clipped_high_percent',
  'noise',
  'shared',
] as const
const figure = useLocalStorage<(typeof FIGURES)[number]>('photos-figure', 'sharpness_px')
const sorted = ref(false)
const judged = computed(() => project.photos.some((p) => p.judged))
const valueOf = (p: Photo) => p.judged?.[figure.value] ?? 0
const chart = computed(() =>
  project.photos.map((p) => ({
    key: p.path,
    value: valueOf(p),
    off: !p.kept || !!p.problem,
    bad: p.judged ? p.judged.proposal !== 'keep' : false,
    limit: p.judged?.limits?.[figure.value],
  })),
)
/** Photos that belong together, by name of the set. */
const sets = computed(() => {
  const found = new Map<string, number>()
  for (const p of project.photos) if (p.set) found.set(p.set, (found.get(p.set) ?? 0) + 1)
  return [...found].sort((a, b) => b[1] - a[1]).slice(0, 6)
})
const only = ref<string | null>(null)
const inSet = computed(() =>
  only.value ? project.photos.filter((p) => p.set === only.value).map((p) => p.path) : null,
)
const order = computed(() =>
  sorted.value && judged.value
    ? [...project.photos].sort((a, b) => valueOf(b) - valueOf(a)).map((p) => p.path)
    : undefined,
)
/** Frames of videos that are kept, in order: they can be thinned out without taking them again. */
const filmed = computed(() => project.photos.filter((p) => p.frame !== null && p.kept && !p.problem))
const thin = (every: number) =>
  project.keep(
    filmed.value.filter((_, k) => k % every).map((p) => p.path),
    false,
  )
/** Photos that were picked together: brushed in the chart, or with shift and ctrl in the sheet. */
const brushed = ref<string[]>([])
const picked = computed(() => (brushed.value.length ? brushed.value : inSet.value))
/** After something was done with the picked photos: the set they are of now is shown. */
function pickedDone(set: string | null) {
  brushed.value = []
  only.value = set
}
const history = useHistory('photos')
useKeys('layers.photos', [
  { keys: 'Ctrl+Z', says: 'keys.undo', act: () => void history.undo() },
  { keys: 'Ctrl+Shift+Z', says: 'keys.redo', act: () => void history.redo() },
  { keys: 'Ctrl+Y', says: 'keys.redo', act: () => void history.redo() },
])
/** Photos that stay in view beside the selected one, under one zoom. */
const pinned = ref<string[]>([])
const panes = computed(() => [...pinned.value.filter((p) => p !== project.selected), project.selected])
const zoom = ref(1)
const shift = ref([0, 0])
function pin() {
  const path = project.selected
  if (!path) return
  pinned.value = pinned.value.includes(path)
    ? pinned.value.filter((p) => p !== path)
    : [...pinned.value.slice(-2), path]
}
/** The large photo alone, with all photos in a row under it. */
const large = useLocalStorage('photos-large', false)
useKeys('layers.photos', [{ keys: 'L', says: 'keys.large', act: () => (large.value = !large.value) }])
const shade = ref(false)
/** When the tone was last changed; 0 when photos are shown as they were shot. */
const toned = ref(0)
const after = ref(true)
const overlayOf = (path: string | null) => {
  if (!path) return null
  const of = (kind: string) =>
    `/api/v1/projects/${project.id}/photos/${kind}?path=${encodeURIComponent(path)}`
  if (shade.value) return `${of('dark')}&side=1200`
  return toned.value && after.value ? `${of('toned')}&side=1600&at=${toned.value}` : null
}

const videos = shallowRef<Video[]>([])
const shown = ref<string | null>(null)
const video = computed(() => videos.value.find((v) => v.name === shown.value) ?? null)
async function refreshVideos() {
  videos.value = (await ask(api.GET('/api/v1/projects/{project_id}/videos', project.path))) as Video[]
}
onMounted(refreshVideos)
watch(() => jobs.ended, refreshVideos)
/** While photos are judged their figures come one after the other. */
const looking = computed(
  () =>
    jobs.active.find((j) => j.kind === 'judge' && j.state === 'running' && j.project_id === project.id)?.done,
)
watchThrottled(looking, (done) => done && project.refresh(['photos']), { throttle: 2000 })
const { sending, share, send } = useBring(async () => {
  await refreshVideos()
  shown.value = videos.value.at(-1)?.name ?? null
})
async function dropped(e: DragEvent) {
  over.value = false
  await send(await filesOf(e))
}

const refer = ref(false)
const gone = computed(() => project.photos.filter((p) => p.gone).length)
/** A folder is typed in where there is nothing yet, where photos are missing, and when it is asked for. */
const byPath = ref(false)
const asksPath = computed(() => byPath.value || !project.photos.length || gone.value > 0)
async function bring() {
  const body = { path: path.value, copy_files: !refer.value }
  if (gone.value)
    await ask(api.POST('/api/v1/projects/{project_id}/photos/point-again', { ...project.path, body }))
  else {
    const { id } = await ask(
      api.POST('/api/v1/projects/{project_id}/photos/from-path', { ...project.path, body }),
    )
    const job = await jobs.over(id)
    if (job)
      ElMessage({
        message: say(job.message),
        type: job.state === 'done' ? 'success' : 'warning',
        duration: 9000,
        showClose: true,
      })
  }
  await project.refresh()
}
const chosen = (e: Event) => send([...((e.target as HTMLInputElement).files ?? [])])
</script>

<template>
  <section
    class="bench"
    :class="{ over }"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="dropped"
  >
    <div class="bar">
      <button class="plainbtn" @click="files!.click()">{{ t('photos.choose') }}</button>
      <button class="plainbtn" @click="folder!.click()">{{ t('photos.folder') }}</button>
      <button v-if="!asksPath" class="plainbtn" @click="byPath = true">{{ t('photos.byPath') }}</button>
      <el-input
        v-if="asksPath"
        v-model="path"
        size="small"
        style="width: 150px"
        :placeholder="t('photos.path')"
        :aria-label="t('photos.path')"
        @keyup.enter="bring"
      />
      <button v-if="asksPath" class="plainbtn" :disabled="!path" @click="bring">
        {{ gone ? t('photos.point', { n: gone }) : t('photos.bring') }}
      </button>
      <label v-if="path && !gone" class="refer" :title="t('photos.referHint')"
        ><input v-model="refer" type="checkbox" /> {{ t('photos.refer') }}</label
      >
      <span v-if="videos.length" class="seg"
        ><button :aria-pressed="!video" @click="shown = null">{{ t('video.sheet') }}</button
        ><button
          v-for="v in videos"
          :key="v.name"
          :aria-pressed="shown === v.name"
          :title="v.name"
          @click="shown = v.name"
        >
          {{ videos.length > 1 ? v.name.slice(0, 12) : t('video.show') }}
        </button></span
      >
      <span v-if="(sets.length > 1 || only) && !video" class="seg"
        ><button :aria-pressed="!only" @click="only = null">{{ t('tone.all') }}</button
        ><button v-for="[s, n] in sets" :key="s" :aria-pressed="only === s" @click="only = s">
          {{ say(s) }}, {{ n }}
        </button></span
      >
      <button
        v-if="filmed.length > 8 && !video"
        class="plainbtn"
        :title="t('photos.thinHint')"
        @click="thin(2)"
      >
        {{ t('photos.thin') }}
      </button>
      <button
        v-if="filmed.length > 12 && !video"
        class="plainbtn"
        :title="t('photos.thinHint')"
        @click="thin(3)"
      >
        {{ t('photos.third') }}
      </button>
      <span v-if="history.canUndo.value || history.canRedo.value" class="seg"
        ><button
          :disabled="!history.canUndo.value"
          :title="history.undoes.value ? say(history.undoes.value) : ''"
          @click="history.undo()"
        >
          {{ t('finish.undo') }}</button
        ><button
          :disabled="!history.canRedo.value"
          :title="history.redoes.value ? say(history.redoes.value) : ''"
          @click="history.redo()"
        >
          {{ t('finish.redo') }}
        </button></span
      >
      <span v-if="share !== null" class="num">{{ Math.round(100 * share) }} %</span>
      <span v-if="sending" class="num">{{ t('job.of', { done: sending[0], total: sending[1] }) }}</span>
      <span v-if="photo" class="end">
        <button v-if="toned" class="plainbtn" :aria-pressed="after" @click="after = !after">
          {{ t('tone.after') }}
        </button>
        <button class="plainbtn" :aria-pressed="large" title="L" @click="large = !large">
          {{ t('photos.large') }}
        </button>
        <button class="plainbtn" :aria-pressed="shade" @click="shade = !shade">{{ t('judge.dark') }}</button>
        <button class="plainbtn" :aria-pressed="pinned.includes(photo.path)" @click="pin">
          {{ t('judge.pin') }}
        </button>
        <button class="plainbtn" @click="project.keep([photo.path], !photo.kept)">
          {{ photo.kept ? t('photos.leave') : t('photos.keep') }}
        </button>
      </span>
      <input
        ref="files"
        class="file"
        type="file"
        tabindex="-1"
        :aria-label="t('photos.choose')"
        multiple
        accept="image/*,video/*,.dng,.cr2,.cr3,.nef,.arw,.raf,.orf,.rw2,.pef,.srw,.heic,.heif"
        @change="chosen"
      />
      <input
        ref="folder"
        class="file"
        type="file"
        tabindex="-1"
        :aria-label="t('photos.folder')"
        webkitdirectory
        @change="chosen"
      />
    </div>
    <PickedStrip
      v-if="picked?.length && !video"
      :paths="picked"
      :set="brushed.length ? null : only"
      @done="pickedDone"
    />
    <VideoPane v-if="video" :key="video.name" :video="video" />
    <div v-else-if="!project.photos.length" class="emptynote drop">
      <p>{{ t('empty.photos') }}<br />{{ t('photos.drop') }}.</p>
    </div>
    <SplitPane v-else name="photos" :aspect="project.aspect" :full="large" :most="0.55">
      <template #first
        ><ContactSheet v-model:picked="brushed" :order="order" :only="inSet" @open="large = true"
      /></template>
      <template #second>
        <div class="flat">
          <div class="panes" :class="`n${panes.length}`">
            <PhotoPane
              v-for="p in panes"
              :key="p ?? ''"
              v-model:zoom="zoom"
              v-model:shift="shift"
              :path="p"
              :overlay="overlayOf(p)"
            />
          </div>
          <FilmStrip v-if="large" :order="order" :only="inSet" />
          <PhotoFacts v-if="photo" :photo="photo" />
        </div>
      </template>
    </SplitPane>
    <div v-if="judged && !video" class="under">
      <StripChart
        :values="chart"
        :title="t(`judge.${figure}`)"
        :selected="project.selected"
        :picked="brushed"
        :picture="(key) => photoUrl(project.id, 'thumb', key, 280)"
        @pick="project.selected = $event"
        @brush="brushed = $event"
      />
      <span class="which">
        <el-select v-model="figure" size="small" style="width: 160px" :aria-label="t('judge.figure')">
          <el-option v-for="f in FIGURES" :key="f" :value="f" :label="t(`judge.${f}`)" />
        </el-select>
        <button class="plainbtn" :aria-pressed="sorted" @click="sorted = !sorted">
          {{ t('judge.sort') }}
        </button>
      </span>
    </div>
    <Teleport to="#tray-top"><Proposals /><TonePanel v-model:after="toned" /></Teleport>
  </section>
</template>

<style scoped>
.flat {
  display: grid;
  grid-template-rows: minmax(0, 1fr) auto auto;
  min-height: 0;
  min-width: 0;
}
.panes {
  display: grid;
  min-height: 0;
  gap: 2px;
}
.panes.n2 {
  grid-template-rows: 1fr 1fr;
}
.panes.n3,
.panes.n4 {
  grid-template: 1fr 1fr / 1fr 1fr;
}
.under {
  position: relative;
}
.which {
  position: absolute;
  right: 12px;
  top: 2px;
  display: flex;
  gap: 6px;
}
.end {
  display: flex;
  gap: 6px;
}
.refer {
  font-size: 12.5px;
}
.file {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
  pointer-events: none;
}
.drop {
  flex: 1;
  border: 2px dashed var(--joint);
  margin: 20px;
  border-radius: 10px;
  height: auto;
}
.over {
  outline: 3px dashed var(--lichen);
  outline-offset: -6px;
}
</style>
