<script setup lang="ts">
import { ElInput, ElOption, ElSelect, ElSlider, ElSwitch } from 'element-plus'
import { useDebounceFn } from '@vueuse/core'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Histogram, type Tone, type TonePreset, type ToneOut } from '@/api/client'
import { useProject } from '@/stores/project'
import { fixed } from '@/i18n/numbers'

/** Exposure, white balance and tone pulled together when photos are read; the files are never touched. */
const after = defineModel<number>('after', { required: true })
const { t } = useI18n()
const project = useProject()
const now = shallowRef<ToneOut | null>(null)
const bars = shallowRef<Histogram | null>(null)
const open = ref(false)
type Key = 'brightness' | 'shadows' | 'contrast' | 'saturation' | 'black' | 'white' | 'corners' | 'denoise'
const ROWS: [Key, number, number, number][] = [
  ['shadows', 0, 1, 0.05],
  ['brightness', -2, 2, 0.1],
  ['contrast', -1, 1, 0.05],
  ['saturation', -1, 1, 0.05],
  ['black', 0, 0.4, 0.01],
  ['white', 0.6, 1, 0.01],
  ['corners', -1, 2, 0.1],
  ['denoise', 0, 1, 0.1],
]
const AS_SHOT: Tone = {
  brightness: 0,
  shadows: 0,
  contrast: 0,
  saturation: 0,
  black: 0,
  white: 1,
  corners: 0,
  denoise: 0,
}
/** What the sliders change: all photos, the set of the selected one, or only that one. */
type Reach = 'all' | 'set' | 'one'
const reach = ref<Reach>('all')
const photo = computed(() => project.photos.find((p) => p.path === project.selected) ?? null)
const reached = computed(() => {
  if (reach.value === 'all' || !photo.value) return null
  if (reach.value === 'one' || !photo.value.set) return [photo.value.path]
  return project.photos.filter((p) => p.set === photo.value!.set).map((p) => p.path)
})
const own = computed(() => Object.keys(now.value?.own ?? {}).length)
const ofPhoto = computed(() => (photo.value && now.value?.own?.[photo.value.path]) || null)
/** What a slider was just set to, until the server has it. */
const pending = shallowRef<Tone | null>(null)
/** The settings that are shown: those of the selected photo. */
const shown = computed<Tone>(() => pending.value ?? ofPhoto.value ?? now.value?.tone ?? AS_SHOT)
/** Whether what is shown is not what all that would be changed have. */
const differs = computed(() => {
  const others = reached.value ? reached.value.map((p) => now.value?.own?.[p]) : [undefined]
  return others.some((o) => ROWS.some(([k]) => (o ?? now.value?.tone ?? AS_SHOT)[k] !== shown.value[k]))
})
const judged = computed(() => project.photos.some((p) => p.judged?.tone))
const changed = computed(
  () =>
    !!now.value &&
    (now.value.evened > 0 ||
      now.value.corner_stops > 0 ||
      own.value > 0 ||
      ROWS.some(([k]) => now.value!.tone[k] !== AS_SHOT[k])),
)

/** Settings kept under names, for all projects. */
const presets = shallowRef<TonePreset[]>([])
const preset = ref('')
const name = ref('')
async function take(next: Promise<ToneOut>) {
  now.value = await next
  after.value = changed.value ? Date.now() : 0
  await levels()
}
async function levels() {
  if (!open.value || !project.selected) return
  const params = { path: { project_id: project.id }, query: { path: project.selected } }
  bars.value = await ask(api.GET('/api/v1/projects/{project_id}/photos/histogram', { params }))
}
onMounted(() => {
  void take(ask(api.GET('/api/v1/projects/{project_id}/photos/tone', project.path)))
  void kept()
})
watch([() => project.selected, open], () => {
  preset.value = ''
  pending.value = null
  void levels()
})
const even = (on: boolean) =>
  take(
    ask(
      api.POST('/api/v1/projects/{project_id}/photos/even', {
        params: { path: { project_id: project.id }, query: { on } },
      }),
    ),
  )
type By = ToneOut['falloff_from']
const falloff = (by: By) =>
  take(
    ask(
      api.POST('/api/v1/projects/{project_id}/photos/falloff', {
        params: { path: { project_id: project.id }, query: { by } },
      }),
    ),
  ).catch(() => undefined)
const put = (tone: Tone, paths = reached.value) =>
  take(ask(api.PUT('/api/v1/projects/{project_id}/photos/tone', { ...project.path, body: { tone, paths } })))
const send = useDebounceFn(async (tone: Tone, paths: string[] | null) => {
  await put(tone, paths).catch(() => undefined)
  if (pending.value === tone) pending.value = null
}, 120)
function set(key: Key, value: number) {
  if (value === shown.value[key]) return
  pending.value = { ...shown.value, [key]: value }
  void send(pending.value, reached.value)
}
const asShot = () =>
  take(
    even(false)
      .then(() => falloff('nothing'))
      .then(() =>
        ask(
          api.PUT('/api/v1/projects/{project_id}/photos/tone', {
            ...project.path,
            body: { tone: AS_SHOT, paths: null },
          }),
        ),
      ),
  )

async function kept() {
  presets.value = await ask(api.GET('/api/v1/tone-presets'))
}
function use(chosen: string) {
  const found = presets.value.find((p) => p.name === chosen)
  if (found) void put(found.tone as Tone)
}
async function keep() {
  const params = { path: { name: name.value.trim() } }
  await ask(api.PUT('/api/v1/tone-presets/{name}', { params, body: shown.value }))
  preset.value = params.path.name
  name.value = ''
  await kept()
}
async function forget() {
  await ask(api.DELETE('/api/v1/tone-presets/{name}', { params: { path: { name: preset.value } } }))
  preset.value = ''
  await kept()
}
const path = (values: number[]) => {
  const both = [...(bars.value?.before ?? []).slice(1, -1), ...(bars.value?.after ?? []).slice(1, -1)]
  const top = Math.max(...both, 0.02)
  return values.map((v, k) => `${k},${30 - Math.min(30, (29 * v) / top)}`).join(' ')
}
</script>

<template>
  <div v-if="project.photos.length" class="tone">
    <h2>
      <button class="fold" :aria-expanded="open" @click="open = !open">
        <span aria-hidden="true">{{ open ? '–' : '+' }}</span> {{ t('tone.title') }}
      </button>
    </h2>
    <template v-if="open && now">
      <div class="row">
        <label for="even">{{ t('tone.even') }}</label>
        <el-switch
          id="even"
          size="small"
          :model-value="now.evened > 0"
          :disabled="!judged"
          :aria-label="t('tone.even')"
          @change="even(Boolean($event))"
        />
      </div>
      <p class="quiet num">
        {{
          judged
            ? t('tone.spread', { ev: fixed(now.spread_ev, 2), wb: fixed(now.spread_wb, 2) })
            : t('tone.judgeFirst')
        }}
      </p>
      <div class="row">
        <span>{{ t('tone.falloff') }}</span>
        <el-select
          :model-value="now.falloff_from"
          size="small"
          style="width: 136px"
          :aria-label="t('tone.falloff')"
          @change="falloff($event as By)"
        >
          <el-option
            v-for="by in ['nothing', 'photos', 'database']"
            :key="by"
            :value="by"
            :label="t(`tone.by_${by}`)"
          />
        </el-select>
      </div>
      <p class="quiet num">
        {{
          now.corner_stops > 0
            ? t('tone.corner', { stops: fixed(now.corner_stops, 2) })
            : t('tone.cornerHint')
        }}
      </p>
      <div class="row">
        <span>{{ t('tone.reach') }}</span>
        <span class="seg">
          <button
            v-for="r in ['all', 'set', 'one'] as const"
            :key="r"
            :aria-pressed="reach === r"
            :disabled="r !== 'all' && (!photo || (r === 'set' && !photo.set))"
            @click="reach = r"
          >
            {{ t(`tone.reach_${r}`) }}
          </button>
        </span>
      </div>
      <p v-if="own" class="quiet num">
        {{ t(reach === 'all' ? 'tone.ownLost' : 'tone.own', { n: own }) }}
        <template v-if="ofPhoto">{{ t('tone.ownThis') }}</template>
      </p>
      <svg
        v-if="bars"
        viewBox="0 0 63 30"
        preserveAspectRatio="none"
        role="img"
        :aria-label="t('tone.levels')"
      >
        <polyline :points="path(bars.before)" class="before" vector-effect="non-scaling-stroke" />
        <polyline :points="path(bars.after)" class="after" vector-effect="non-scaling-stroke" />
      </svg>
      <div v-for="[key, low, high, step] in ROWS" :key="key" class="row">
        <span>{{ t(`tone.${key}`) }}</span>
        <el-slider
          :model-value="shown[key]"
          :min="low"
          :max="high"
          :step="step"
          size="small"
          style="width: 116px; margin-right: 8px"
          :aria-label="t(`tone.${key}`)"
          @input="(v) => set(key, Number(v))"
        />
      </div>
      <button v-if="differs && photo" class="link" @click="put(shown)">
        {{ t(`tone.same_${reach}`) }}
      </button>
      <div class="row">
        <el-select
          v-model="preset"
          size="small"
          style="width: 128px"
          :placeholder="t('tone.presets')"
          :no-data-text="t('tone.noPresets')"
          :aria-label="t('tone.presets')"
          @change="use"
        >
          <el-option v-for="p in presets" :key="p.name" :value="p.name" :label="p.name" />
        </el-select>
        <button v-if="preset" class="link" @click="forget">{{ t('tone.forget') }}</button>
        <el-input
          v-else
          v-model="name"
          size="small"
          style="width: 118px"
          :placeholder="t('tone.keepAs')"
          :aria-label="t('tone.keepAs')"
          @keyup.enter="name.trim() && keep()"
        />
      </div>
      <button v-if="changed" class="link" @click="asShot">{{ t('tone.asShot') }}</button>
    </template>
  </div>
</template>

<style scoped>
.tone {
  padding: 4px 14px;
  border-bottom: 1px solid var(--joint);
}
h2 {
  margin: 0;
}
.row {
  font-size: 13px;
}
p {
  margin: 0 0 4px;
  font-size: 12.5px;
}
svg {
  width: 100%;
  height: 46px;
  margin-top: 6px;
  background: var(--stone);
  border-radius: 4px;
}
polyline {
  fill: none;
  stroke-width: 1.3;
}
.before {
  stroke: var(--ink2);
  stroke-dasharray: 3 2;
}
.after {
  stroke: var(--lichen);
}
.link {
  padding: 3px 0;
}
</style>
