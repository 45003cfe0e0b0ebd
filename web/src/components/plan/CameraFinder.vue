<script setup lang="ts">
import { ElAutocomplete } from 'element-plus'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type PlanIn } from '@/api/client'

/** Camera and lens by name: fills in sensor, focal length and aperture. */
const plan = defineModel<PlanIn>({ required: true })
const emit = defineEmits<{ change: [] }>()
const { t } = useI18n()
const camera = ref('')
const lens = ref('')

async function cameras(words: string, show: (found: { value: string }[]) => void) {
  const aspect = (plan.value.pixels_wide ?? 3) / (plan.value.pixels_high ?? 2)
  const found = await ask(api.GET('/api/v1/cameras', { params: { query: { words, aspect } } }))
  show(found.map((c) => ({ ...c, value: c.name })))
}
async function lenses(words: string, show: (found: { value: string }[]) => void) {
  const query = { camera: camera.value, words }
  const found = await ask(api.GET('/api/v1/cameras/lenses', { params: { query } }))
  show(found.map((l) => ({ ...l, value: l.name })))
}
function takeCamera(c: Record<string, unknown>) {
  const sensor = c.sensor_mm as [number, number]
  const next = { ...plan.value, sensor_mm: sensor[0] }
  if (typeof c.focal_mm === 'number') next.focal_mm = c.focal_mm
  if (typeof c.f_number === 'number') next.f_number = c.f_number
  lens.value = ''
  plan.value = next
  emit('change')
}
function takeLens(l: Record<string, unknown>) {
  const [short, long] = [Number(l.shortest_mm), Number(l.longest_mm)]
  const focal = Math.min(Math.max(plan.value.focal_mm ?? short, short), long)
  const widest = Number(l.widest ?? 0)
  plan.value = { ...plan.value, focal_mm: focal, f_number: Math.max(plan.value.f_number ?? 8, widest) }
  emit('change')
}
</script>

<template>
  <div class="finder">
    <el-autocomplete
      v-model="camera"
      :fetch-suggestions="cameras"
      size="small"
      clearable
      :trigger-on-focus="false"
      :placeholder="t('plan.findCamera')"
      :aria-label="t('plan.findCamera')"
      @select="takeCamera"
    />
    <el-autocomplete
      v-model="lens"
      :fetch-suggestions="lenses"
      size="small"
      clearable
      :disabled="!camera"
      :placeholder="t('plan.findLens')"
      :aria-label="t('plan.findLens')"
      @select="takeLens"
    />
  </div>
</template>

<style scoped>
.finder {
  display: grid;
  gap: 3px;
  padding: 2px 14px;
}
</style>
