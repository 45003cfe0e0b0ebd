<script setup lang="ts">
import { ElSlider, ElSwitch } from 'element-plus'
import { useDebounceFn } from '@vueuse/core'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Histogram, type ToneOut } from '@/api/client'
import { useProject } from '@/stores/project'

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
const AS_SHOT = {
  brightness: 0,
  shadows: 0,
  contrast: 0,
  saturation: 0,
  black: 0,
  white: 1,
  corners: 0,
  denoise: 0,
}
const judged = computed(() => project.photos.some((p) => p.judged?.tone))
const changed = computed(
  () =>
    !!now.value &&
    (now.value.evened > 0 || ROWS.some(([k]) => now.value!.tone[k] !== (k === 'white' ? 1 : 0))),
)

async function take(next: Promise<ToneOut>) {
  now.value = await next
  after.value = changed.value ? Date.now() : 0
  await levels()
}
async function levels() {
  if (!open.value || !project.selected) return
  const params = { path: { project_id: project.id }, query: { path: project.selected } }
  bars.value = await ask(api.GET('/api/projects/{project_id}/photos/histogram', { params }))
}
onMounted(() => take(ask(api.GET('/api/projects/{project_id}/photos/tone', project.path))))
watch([() => project.selected, open], levels)
const even = (on: boolean) =>
  take(
    ask(
      api.POST('/api/projects/{project_id}/photos/even', {
        params: { path: { project_id: project.id }, query: { on } },
      }),
    ),
  )
const set = useDebounceFn((key: Key, value: number) => {
  if (!now.value) return
  const body = { ...now.value.tone, [key]: value }
  void take(ask(api.PUT('/api/projects/{project_id}/photos/tone', { ...project.path, body })))
}, 120)
const asShot = () =>
  take(
    even(false).then(() =>
      ask(api.PUT('/api/projects/{project_id}/photos/tone', { ...project.path, body: AS_SHOT })),
    ),
  )
const path = (values: number[]) => {
  const top = Math.max(...values.slice(1, -1), 0.02)
  return values.map((v, k) => `${k},${30 - Math.min(30, (29 * v) / top)}`).join(' ')
}
</script>

<template>
  <div v-if="project.photos.length" class="tone">
    <h3>
      <button :aria-expanded="open" @click="open = !open">
        <span aria-hidden="true">{{ open ? '–' : '+' }}</span> {{ t('tone.title') }}
      </button>
    </h3>
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
            ? t('tone.spread', { ev: now.spread_ev?.toFixed(2), wb: now.spread_wb?.toFixed(2) })
            : t('tone.judgeFirst')
        }}
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
          :model-value="now.tone[key]"
          :min="low"
          :max="high"
          :step="step"
          size="small"
          style="width: 116px; margin-right: 8px"
          :aria-label="t(`tone.${key}`)"
          @input="(v) => set(key, Number(v))"
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
h3 {
  margin: 0;
}
h3 button {
  font: inherit;
  font-size: 13px;
  font-weight: 700;
  border: 0;
  background: none;
  color: var(--ink);
  cursor: pointer;
  padding: 2px 0;
}
.row {
  display: flex;
  justify-content: space-between;
  align-items: center;
  min-height: 28px;
  font-size: 13px;
}
p {
  margin: 0 0 4px;
  font-size: 12.5px;
}
svg {
  width: 100%;
  height: 46px;
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
