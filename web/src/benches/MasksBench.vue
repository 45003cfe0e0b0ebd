<script setup lang="ts">
import { ElMessage, ElSlider } from 'element-plus'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, photoUrl, tell, type Brought } from '@/api/client'
import ContactSheet from '@/components/ContactSheet.vue'
import PhotoPane from '@/components/PhotoPane.vue'
import { say } from '@/i18n/say'
import { sendFiles } from '@/lib/send'
import { useProject } from '@/stores/project'

const { t } = useI18n()
const project = useProject()
const color = ref<[number, number, number] | null>(null)
const tolerance = ref(12)
const files = ref<HTMLInputElement>()
const stamp = computed(() => project.layer('masks')?.number ?? 0)

const overlay = (path: string) =>
  stamp.value ? `${photoUrl(project.id, 'mask', path, 240)}&v=${stamp.value}` : null
const large = computed(() => {
  const p = project.selected
  if (!p) return null
  if (!color.value) return stamp.value ? `${photoUrl(project.id, 'mask', p, 900)}&v=${stamp.value}` : null
  const [r, g, b] = color.value
  return `/api/projects/${project.id}/photos/key?path=${encodeURIComponent(p)}&red=${r}&green=${g}&blue=${b}&tolerance=${tolerance.value}&side=700`
})

async function pick(x: number, y: number) {
  if (!project.selected) return
  const answer = await ask(
    api.GET('/api/projects/{project_id}/photos/color', {
      params: { path: { project_id: project.id }, query: { path: project.selected, x, y } },
    }),
  )
  color.value = answer.rgb as [number, number, number]
}
const apply = async (colors: [number, number, number][]) => {
  await project.change('masks', { key_colors: colors, tolerance: tolerance.value })
  await project.run('masks')
  color.value = null
}
async function bring(e: Event) {
  const field = e.target as HTMLInputElement
  try {
    const { taken, refused, remarks } = await sendFiles<Brought>(
      `/api/projects/${project.id}/photos/masks`,
      'files',
      field.files ?? [],
    )
    for (const told of refused) tell(say(told))
    for (const told of remarks)
      ElMessage({ message: say(told), type: 'warning', duration: 0, showClose: true })
    if (taken.length) await project.run('masks')
  } catch (error) {
    tell((error as Error).message)
  } finally {
    field.value = ''
  }
}
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span v-if="color" class="swatch" :style="{ background: `rgb(${color.join(',')})` }"></span>
      <span class="quiet">{{ color ? t('masks.colour') : t('masks.pick') }}</span>
      <span>{{ t('masks.tolerance') }}</span>
      <el-slider
        v-model="tolerance"
        :min="2"
        :max="60"
        style="width: 130px"
        :aria-label="t('masks.tolerance')"
      />
      <button class="plainbtn" :disabled="!color" @click="apply([color!])">{{ t('masks.apply') }}</button>
      <button class="plainbtn" @click="apply([])">{{ t('masks.clear') }}</button>
      <button class="plainbtn" @click="files!.click()">{{ t('masks.files') }}</button>
      <input
        ref="files"
        class="file"
        type="file"
        tabindex="-1"
        :aria-label="t('masks.files')"
        multiple
        accept=".png"
        @change="bring"
      />
    </div>
    <div v-if="!project.photos.length" class="emptynote">{{ t('photos.empty') }}</div>
    <div v-else class="split">
      <ContactSheet :overlay="overlay" />
      <PhotoPane :path="project.selected" :overlay="large" :caption="t('masks.hint')" @place="pick" />
    </div>
  </section>
</template>

<style scoped>
.swatch {
  width: 22px;
  height: 22px;
  border-radius: 4px;
  border: 1px solid var(--joint);
}
.file {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
}
.split {
  grid-template-columns: 1fr 1.1fr;
}
</style>
