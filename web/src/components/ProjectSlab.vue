<script setup lang="ts">
import { ElInput, ElMessageBox } from 'element-plus'
import { defineAsyncComponent, nextTick, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { day } from '@/i18n/numbers'
import { api, ask, photoUrl, type Project } from '@/api/client'
import { say } from '@/i18n/say'
import PlanDrawing from '@/components/PlanDrawing.vue'
import { bytes } from '@/lib/format'
import { stateOf } from '@/lib/projects'

// with the renderer of Markdown, which the first page does not need
const NotesSheet = defineAsyncComponent(() => import('@/components/NotesSheet.vue'))
const SpaceSheet = defineAsyncComponent(() => import('@/components/SpaceSheet.vue'))

/** A project on the first page: its best picture, what there is of it and what comes next. */
const props = defineProps<{ project: Project }>()
const emit = defineEmits<{ open: []; changed: [] }>()
const { t } = useI18n()
const naming = ref<string | null>(null)
const field = ref<InstanceType<typeof ElInput>>()
const where = () => ({ params: { path: { project_id: props.project.id } } })
const made = () => day(props.project.made)

async function rename() {
  naming.value = props.project.name
  await nextTick()
  field.value?.select()
}
async function renamed() {
  const name = naming.value?.trim()
  naming.value = null
  if (!name || name === props.project.name) return
  await ask(api.PATCH('/api/v1/projects/{project_id}', { ...where(), body: { name } }), true)
  emit('changed')
}
async function remove() {
  const { name, bytes: size } = props.project
  try {
    await ElMessageBox.confirm(t('projects.removeAsk', { name, size: bytes(size) }), { type: 'warning' })
  } catch {
    return
  }
  try {
    await ask(api.DELETE('/api/v1/projects/{project_id}', where()), true)
  } finally {
    emit('changed')
  }
}
async function duplicate() {
  const name = t('projects.copyOf', { name: props.project.name }).slice(0, 120)
  await ask(api.POST('/api/v1/projects/{project_id}/duplicate', { ...where(), body: { name } }), true)
  emit('changed')
}
const [space, notes] = [ref(false), ref(false)]
</script>

<template>
  <article class="slab">
    <a
      :href="`/projects/${props.project.id}/photos`"
      tabindex="-1"
      aria-hidden="true"
      @click.prevent="emit('open')"
    >
      <img
        v-if="props.project.poster"
        class="poster"
        :src="`/api/v1/projects/${props.project.id}/layers/${props.project.poster}/poster?v=${props.project.bytes}`"
        alt=""
      />
      <img
        v-else-if="props.project.picture"
        :src="photoUrl(props.project.id, 'thumb', props.project.picture, 480)"
        alt=""
      />
      <img
        v-else-if="props.project.film"
        :src="`/api/v1/projects/${props.project.id}/videos/${encodeURIComponent(props.project.film.name)}/picture/${props.project.film.picture}`"
        alt=""
      />
      <PlanDrawing v-else class="blank" :laps="props.project.laps" :shape="props.project.shape" />
    </a>
    <div class="what">
      <el-input
        v-if="naming !== null"
        ref="field"
        v-model="naming"
        maxlength="120"
        :aria-label="t('projects.name')"
        @keydown.enter="renamed"
        @keydown.esc="naming = null"
        @blur="renamed"
      />
      <a
        v-else
        class="name"
        :href="`/projects/${props.project.id}/photos`"
        :title="props.project.name"
        dir="auto"
        @click.prevent="emit('open')"
        >{{ props.project.name }}</a
      >
      <span>{{
        t(stateOf(props.project), {
          n: props.project.photos,
          shots: props.project.planned,
          videos: props.project.videos,
        })
      }}</span>
      <span v-if="props.project.trouble" class="trouble" role="status">{{ say(props.project.trouble) }}</span>
      <span v-if="props.project.running" class="works">{{ t('projects.running') }}</span>
      <span class="quiet num">{{ made() }} · {{ bytes(props.project.bytes) }}</span>
      <span v-if="props.project.notes" class="quiet noted" dir="auto">{{ props.project.notes }}</span>
      <span class="acts">
        <button
          class="link"
          :aria-label="t('projects.renameOf', { name: props.project.name })"
          @click="rename"
        >
          {{ t('projects.rename') }}
        </button>
        <button
          class="link"
          :title="t('projects.duplicateHint')"
          :aria-label="`${t('projects.duplicate')} ${props.project.name}`"
          @click="duplicate"
        >
          {{ t('projects.duplicate') }}
        </button>
        <button class="link" :aria-label="`${t('notes.open')}, ${props.project.name}`" @click="notes = true">
          {{ t('notes.open') }}
        </button>
        <button
          class="link"
          :title="t('space.openHint')"
          :aria-label="`${t('space.open')}, ${props.project.name}`"
          @click="space = true"
        >
          {{ t('space.open') }}
        </button>
        <button class="link" :aria-label="`${t('projects.remove')} ${props.project.name}`" @click="remove">
          {{ t('projects.remove') }}
        </button>
      </span>
    </div>
    <SpaceSheet v-if="space" v-model="space" :project="props.project" @changed="emit('changed')" />
    <NotesSheet v-if="notes" v-model="notes" :project="props.project" @changed="emit('changed')" />
  </article>
</template>

<style scoped>
.slab {
  background: var(--paper);
  border: 1px solid var(--joint);
  border-radius: 4px 9px 6px 10px / 8px 4px 9px 5px;
  overflow: hidden;
  display: grid;
  grid-template-columns: 200px minmax(0, 1fr);
}
img,
.blank {
  width: 200px;
  height: 150px;
  object-fit: cover;
  display: block;
  background: var(--stone2);
}
.poster {
  object-fit: contain;
}
.what {
  display: flex;
  flex-direction: column;
  gap: 3px;
  padding: 12px 16px 10px;
  min-width: 0;
}
.name {
  font-size: 16px;
  font-weight: 600;
  color: inherit;
  text-decoration: none;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.noted {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.works {
  color: var(--ochre);
  font-weight: 600;
}
.acts {
  margin-top: auto;
  display: flex;
  gap: 16px;
}
.link {
  border: 0;
  background: none;
  padding: 0;
  color: var(--lichen-ink);
  cursor: pointer;
}
.trouble {
  color: var(--rust);
}
</style>
