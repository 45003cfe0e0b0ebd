<script setup lang="ts">
import { ElInput, ElPopover } from 'element-plus'
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask } from '@/api/client'
import { postForm } from '@/lib/download'
import { useProject } from '@/stores/project'

/** What can be done with the photos that were picked, or with those of the shown set. */
const props = defineProps<{ paths: string[]; set: string | null }>()
const emit = defineEmits<{ done: [set: string | null] }>()
const { t } = useI18n()
const project = useProject()
const inside = computed(() => new Set(props.paths))
const kept = computed(() => project.photos.some((p) => inside.value.has(p.path) && p.kept))
const name = ref('')
const focal = ref('')

async function leave() {
  await project.keep(props.paths, !kept.value)
  if (!props.set) emit('done', null)
}
/** Under one name: a new one splits, a known one merges. */
async function nameSet() {
  const wanted = name.value.trim()
  const body = { paths: props.paths, name: wanted }
  await project.does(() => api.PUT('/api/v1/projects/{project_id}/photos/set', { ...project.path, body }))
  name.value = ''
  emit('done', wanted || null)
}
async function remove() {
  const body = { paths: props.paths }
  await project.does(() => api.POST('/api/v1/projects/{project_id}/photos/remove', { ...project.path, body }))
  emit('done', null)
}
const millimetres = computed(() => Number(focal.value.replace(',', '.')))
const fits = computed(() => !focal.value || (millimetres.value > 0 && millimetres.value <= 3000))
async function setFocal() {
  if (!fits.value) return
  const body = { paths: props.paths, focal_as_35_mm: focal.value ? millimetres.value : null }
  await project.does(() => api.PUT('/api/v1/projects/{project_id}/photos/focal', { ...project.path, body }))
}
const pass = (evened: boolean) =>
  postForm(`/api/v1/projects/${project.id}/photos/zip`, {
    paths: props.paths.join('\n'),
    evened: String(evened),
  })

/** Colour and note of the shown set. */
const COLORS = ['#a4472f', '#b98a2f', '#6f7f3a', '#3d7a78', '#4c6391', '#84547f']
const marks = shallowRef({ color: '', note: '' })
watch(
  () => props.set,
  async (set) => {
    if (!set) return
    const all = await ask(api.GET('/api/v1/projects/{project_id}/photos/sets', project.path))
    const mine = all.find((s) => s.name === set)
    marks.value = { color: mine?.color ?? '', note: mine?.note ?? '' }
  },
  { immediate: true },
)
async function mark(change: Partial<{ color: string; note: string }>) {
  if (!props.set) return
  marks.value = { ...marks.value, ...change }
  const params = { path: { ...project.path.params.path, name: props.set } }
  await ask(api.PUT('/api/v1/projects/{project_id}/photos/sets/{name}', { params, body: marks.value }), true)
}
</script>

<template>
  <div class="strip" role="toolbar" :aria-label="t('picked.title', { n: props.paths.length })">
    <b class="num" :style="marks.color && props.set ? { borderColor: marks.color } : {}">{{
      t('picked.title', { n: props.paths.length })
    }}</b>
    <button class="plainbtn" @click="leave">{{ t(kept ? 'photos.leave' : 'photos.keep') }}</button>
    <el-input
      v-model="name"
      size="small"
      style="width: 130px"
      :placeholder="t(props.set ? 'photos.renameSet' : 'photos.newSet')"
      :aria-label="t('photos.setName')"
      @keyup.enter="nameSet"
    />
    <el-popover trigger="click" :width="250">
      <template #reference
        ><button class="plainbtn">{{ t('picked.focal') }}</button></template
      >
      <div class="pop">
        <p class="quiet">{{ t('picked.focalHint') }}</p>
        <el-input
          v-model="focal"
          size="small"
          inputmode="decimal"
          :aria-label="t('picked.focal')"
          :aria-invalid="!fits"
          @keyup.enter="setFocal"
          ><template #append>mm</template></el-input
        >
        <p v-if="!fits" class="bad">{{ t('picked.focalBounds') }}</p>
        <button class="plainbtn" :disabled="!fits" @click="setFocal">{{ t('picked.set') }}</button>
      </div>
    </el-popover>
    <el-popover v-if="props.set" trigger="click" :width="250">
      <template #reference
        ><button class="plainbtn">{{ t('picked.mark') }}</button></template
      >
      <span class="colors" role="radiogroup" :aria-label="t('picked.color')">
        <button
          v-for="c in ['', ...COLORS]"
          :key="c"
          role="radio"
          :aria-checked="marks.color === c"
          :aria-label="c || t('picked.noColor')"
          :style="{ background: c || 'none' }"
          @click="mark({ color: c })"
        ></button>
      </span>
      <el-input
        :model-value="marks.note"
        type="textarea"
        :rows="3"
        maxlength="2000"
        :placeholder="t('picked.note')"
        :aria-label="t('picked.note')"
        @update:model-value="marks = { ...marks, note: $event }"
        @change="mark({})"
      />
    </el-popover>
    <el-popover trigger="click" :width="220">
      <template #reference
        ><button class="plainbtn">{{ t('picked.pass') }}</button></template
      >
      <div class="pop">
        <p class="quiet">{{ t('picked.passHint') }}</p>
        <button class="plainbtn" @click="pass(false)">{{ t('picked.passAs') }}</button>
        <button class="plainbtn" @click="pass(true)">{{ t('picked.passEven') }}</button>
      </div>
    </el-popover>
    <button class="plainbtn end" :title="t('picked.removeHint')" @click="remove">
      {{ t('picked.remove') }}
    </button>
  </div>
</template>

<style scoped>
.strip {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
  padding: 4px 12px;
  border-bottom: 1px solid var(--joint);
  background: var(--stone);
}
.strip b {
  border-left: 5px solid var(--lichen);
  padding-left: 8px;
}
.end {
  margin-left: auto;
}
.colors {
  display: flex;
  gap: 6px;
  margin-bottom: 8px;
}
.colors button {
  width: 24px;
  height: 24px;
  border: 1px solid var(--joint);
  border-radius: 5px;
  cursor: pointer;
}
.colors button[aria-checked='true'] {
  outline: 2px solid var(--lichen);
  outline-offset: 1px;
}
.pop {
  display: flex;
  flex-direction: column;
  gap: 8px;
  align-items: flex-start;
}
.bad {
  color: var(--rust);
}
</style>
