<script setup lang="ts">
import { useLocalStorage } from '@vueuse/core'
import { ElMessage, ElSlider } from 'element-plus'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type MaskEdit } from '@/api/client'
import ContactSheet from '@/components/ContactSheet.vue'
import EmptyLayer from '@/components/EmptyLayer.vue'
import FilmStrip from '@/components/FilmStrip.vue'
import MaskCanvas from '@/components/MaskCanvas.vue'
import MaskTools from '@/components/MaskTools.vue'
import PhotoPane from '@/components/PhotoPane.vue'
import SplitPane from '@/components/SplitPane.vue'
import { sendMasks, tellRefused } from '@/composables/useBring'
import { useKeys } from '@/composables/useKeys'
import { useMasks } from '@/composables/useMasks'
import { percent } from '@/lib/format'
import type { MaskPurpose, MaskTool } from '@/lib/maskTools'
import { useProject } from '@/stores/project'

const { t } = useI18n()
const project = useProject()
const { masks, rows, oddFirst, picture, add, undo, redo } = useMasks()
const color = ref<[number, number, number] | null>(null)
const tolerance = ref(12)
const files = ref<HTMLInputElement>()
const canvas = ref<InstanceType<typeof MaskCanvas>>()
const tool = ref<MaskTool>('look')
const purpose = ref<MaskPurpose>('grow')
const radius = ref(0.02)
const soft = ref(true)
const picked = ref<string[]>([])
const unusual = ref(false)
/** The photo as it is, without what shows its mask. */
const bare = ref(false)
/** The large photo alone, with all photos in a row under it. */
const large = useLocalStorage('masks-large', false)

const overlay = (path: string) => (masks.value ? picture(path, 240) : null)
const shown = computed(() => {
  const p = project.selected
  if (!p || bare.value || !masks.value) return null
  if (tool.value !== 'colour' || !color.value) return picture(p, 1200)
  const [r, g, b] = color.value
  return `/api/v1/projects/${project.id}/photos/key?path=${encodeURIComponent(p)}&red=${r}&green=${g}&blue=${b}&tolerance=${tolerance.value}&side=700`
})
const caption = computed(() => {
  const row = rows.value.get(project.selected ?? '')
  if (!row || row.share === null) return row?.edits ? t('masks.mended') : t('masks.without')
  const parts = [t(`masks.way.${row.way || 'hand'}`), t('masks.keeps', { share: percent(row.share) })]
  if (row.sure !== null) parts.push(t('masks.sure', { share: percent(row.sure) }))
  if (row.edits) parts.push(t('masks.mended'))
  return parts.join(' · ')
})
/** Photos that an edit is made on: those that were picked together, when the one in view is among them. */
const meant = computed(() => {
  const one = project.selected
  if (!one) return []
  return picked.value.length > 1 && picked.value.includes(one) ? picked.value : [one]
})
const mend = (edit: MaskEdit) => add(meant.value, edit)

async function pick(x: number, y: number) {
  if (!project.selected || tool.value !== 'colour') return
  const answer = await ask(
    api.GET('/api/v1/projects/{project_id}/photos/color', {
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
async function suggest() {
  await project.change('masks', { way: 'suggest' })
  await project.run('masks')
}
async function carry() {
  await project.change('masks', { way: 'carry' })
  await project.run('masks')
}
async function bring(e: Event) {
  const field = e.target as HTMLInputElement
  const list = [...(field.files ?? [])]
  field.value = ''
  const { taken, refused, remarks } = await sendMasks(project.id, list)
  tellRefused(t, refused)
  for (const told of remarks) ElMessage({ message: told, type: 'warning', duration: 0, showClose: true })
  if (taken) await project.run('masks')
}
useKeys('layers.masks', [
  { keys: 'Ctrl+Z', says: 'keys.undo', act: undo },
  { keys: 'Ctrl+Shift+Z', says: 'keys.redo', act: redo },
  { keys: 'Ctrl+Y', says: 'keys.redo', act: redo },
  { keys: 'Enter', says: 'keys.closeOutline', act: () => canvas.value?.finish() },
  { keys: 'Backspace', says: 'keys.cornerBack', act: () => canvas.value?.back() },
  { keys: 'L', says: 'keys.large', act: () => (large.value = !large.value) },
  { keys: 'H', says: 'keys.bare', act: () => (bare.value = !bare.value) },
  {
    keys: 'Escape',
    says: 'keys.noTool',
    act: () => (canvas.value?.drawing ? canvas.value.clear() : (tool.value = 'look')),
  },
])
</script>

<template>
  <section class="bench">
    <div class="bar">
      <button class="plainbtn" :disabled="!project.photos.length" @click="suggest">
        {{ t('masks.suggest') }}
      </button>
      <button
        class="plainbtn"
        :disabled="!project.photos.length"
        :title="t('masks.carryHint')"
        @click="carry"
      >
        {{ t('masks.carry') }}
      </button>
      <button class="plainbtn" @click="files!.click()">{{ t('masks.files') }}</button>
      <a
        v-if="rows.size && [...rows.values()].some((r) => r.share !== null)"
        class="plainbtn"
        :href="`/api/v1/projects/${project.id}/masks/export`"
        download
        >{{ t('masks.export') }}</a
      >
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
      <span class="end">
        <button class="plainbtn" :aria-pressed="large" title="L" @click="large = !large">
          {{ t('photos.large') }}
        </button>
        <button class="plainbtn" :aria-pressed="unusual" @click="unusual = !unusual">
          {{ t('masks.unusual') }}
        </button>
        <button class="plainbtn" :aria-pressed="bare" @click="bare = !bare">{{ t('masks.bare') }}</button>
        <button
          class="plainbtn"
          :disabled="!masks?.undo"
          :aria-label="t('finish.undo')"
          :title="t('finish.undo')"
          @click="undo"
        >
          ↶
        </button>
        <button
          class="plainbtn"
          :disabled="!masks?.redo"
          :aria-label="t('finish.redo')"
          :title="t('finish.redo')"
          @click="redo"
        >
          ↷
        </button>
      </span>
    </div>
    <MaskTools
      v-if="project.photos.length"
      v-model:tool="tool"
      v-model:purpose="purpose"
      v-model:radius="radius"
      v-model:soft="soft"
      :several="meant.length"
      @whole="mend"
    />
    <div v-if="tool === 'colour'" class="bar">
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
    </div>
    <EmptyLayer v-if="!project.photos.length" layer="masks" />
    <SplitPane v-else name="masks" :aspect="project.aspect" :full="large" :most="0.55">
      <template #first
        ><ContactSheet
          v-model:picked="picked"
          :overlay="overlay"
          :order="unusual ? oddFirst : undefined"
          @open="large = true"
      /></template>
      <template #second>
        <div class="flat">
          <PhotoPane :path="project.selected" :overlay="shown" :caption="caption" @place="pick">
            <template #default="{ aspect }">
              <MaskCanvas
                v-if="project.selected && tool !== 'look' && tool !== 'colour'"
                ref="canvas"
                :tool="tool"
                :purpose="purpose"
                :radius="radius"
                :soft="soft"
                :path="project.selected"
                :aspect="aspect"
                @edit="mend"
              />
            </template>
          </PhotoPane>
          <FilmStrip v-if="large" :order="unusual ? oddFirst : undefined" />
        </div>
      </template>
    </SplitPane>
    <div v-if="masks?.unsaved" class="told">
      <span>{{ t('masks.unsaved') }}</span>
      <button class="plainbtn" @click="project.run('masks')">{{ t('masks.take') }}</button>
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
/* over the photo: it comes and goes while somebody draws there */
.told {
  position: absolute;
  right: 10px;
  bottom: 52px;
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 6px 8px 6px 12px;
  background: var(--paper);
  border: 1px solid var(--joint);
  border-radius: 6px;
}
.bench {
  position: relative;
}
.flat {
  display: grid;
  grid-template: minmax(0, 1fr) auto / minmax(0, 1fr);
  min-height: 0;
  min-width: 0;
}
a.plainbtn {
  text-decoration: none;
  color: inherit;
}
.end {
  display: inline-flex;
  gap: 6px;
}
</style>
