<script setup lang="ts">
import { ElInput, ElMessageBox } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Version } from '@/api/client'
import { say } from '@/i18n/say'
import { clock } from '@/i18n/numbers'
import { bytes, seconds } from '@/lib/format'
import { useProject } from '@/stores/project'

/** Versions of a layer: which is in use, and of each what it is, what somebody calls it, and a way to remove it. */
const props = defineProps<{ layer: string; compared: number | null }>()
const emit = defineEmits<{ compare: [number: number | null] }>()
const { t } = useI18n()
const project = useProject()
const layer = computed(() => project.layer(props.layer))
const versions = computed(() => [...(layer.value?.versions ?? [])].reverse())
const open = ref<number | null>(null)
const shown = computed(() => versions.value.find((v) => v.number === open.value) ?? null)
const name = ref('')
const note = ref('')
watch(
  shown,
  (v) => {
    name.value = v?.name ?? ''
    note.value = v?.note ?? ''
  },
  { immediate: true },
)
const where = (number: number) => ({
  params: { path: { ...project.path.params.path, layer: props.layer as Version['layer'], number } },
})
const called = (layer: string, number: number) => `${t(`layers.${layer}`)} ${number}`

async function label(v: Version) {
  if (name.value === v.name && note.value === v.note) return
  const body = { name: name.value.trim(), note: note.value }
  await project.does(() =>
    api.PATCH('/api/v1/projects/{project_id}/layers/{layer}/versions/{number}', { ...where(v.number), body }),
  )
}
/** Say what goes with it, and move all of that into the trash. */
async function remove(v: Version) {
  const hanging = await ask(
    api.GET('/api/v1/projects/{project_id}/layers/{layer}/versions/{number}/made-from-it', where(v.number)),
  )
  const size = bytes(v.bytes + hanging.reduce((sum, h) => sum + h.bytes, 0))
  const what = called(v.layer, v.number)
  const list = hanging.map((h) => called(h.layer, h.number)).join(', ')
  const text = hanging.length
    ? t('versions.removeWith', { what, list, n: hanging.length, size })
    : t('versions.removeAsk', { what, size })
  try {
    await ElMessageBox.confirm(text, { confirmButtonText: t('versions.remove') })
  } catch {
    return
  }
  open.value = null
  const query = { with_what_was_made_from_it: hanging.length > 0 }
  const path = where(v.number).params.path
  await project.does(() =>
    api.DELETE('/api/v1/projects/{project_id}/layers/{layer}/versions/{number}', {
      params: { path, query },
    }),
  )
}
const written = (v: unknown) =>
  v === null
    ? t('versions.empty')
    : typeof v === 'boolean'
      ? t(v ? 'versions.on' : 'versions.off')
      : String(v)
</script>

<template>
  <h2>{{ t('tray.versions') }}</h2>
  <div v-for="v in versions" :key="v.number" class="one" :class="{ open: open === v.number }">
    <div class="ver num">
      <button
        class="called"
        :aria-expanded="open === v.number"
        :title="t('versions.more')"
        @click="open = open === v.number ? null : v.number"
      >
        {{ called(v.layer, v.number) }}<i v-if="v.name" dir="auto"> {{ v.name }}</i>
      </button>
      <b v-if="v.number === layer?.number">{{ t('tray.inUse') }}</b>
      <template v-else>
        <button class="link" @click="project.use(props.layer, v.number)">{{ t('tray.use') }}</button>
        <button
          class="link"
          :aria-pressed="props.compared === v.number"
          @click="emit('compare', props.compared === v.number ? null : v.number)"
        >
          {{ t('tray.compare') }}
        </button>
      </template>
    </div>
    <div v-if="open === v.number" class="more">
      <p class="quiet num">
        {{ t(`grade.${v.grade}`) }} · {{ clock(v.made) }} · {{ seconds(v.seconds) }} · {{ bytes(v.bytes) }}
      </p>
      <p v-if="v.changed.length" class="quiet">
        <template v-for="(c, k) in v.changed" :key="c.name"
          ><template v-if="k">, </template>{{ say(c.title) }}: {{ written(c.value) }}</template
        >
      </p>
      <el-input
        v-model="name"
        size="small"
        maxlength="60"
        :placeholder="t('versions.name')"
        :aria-label="t('versions.name')"
        @change="label(v)"
      />
      <el-input
        v-model="note"
        size="small"
        type="textarea"
        :autosize="{ minRows: 1, maxRows: 5 }"
        maxlength="2000"
        :placeholder="t('versions.note')"
        :aria-label="t('versions.note')"
        @change="label(v)"
      />
      <button class="link" @click="remove(v)">{{ t('versions.remove') }}</button>
    </div>
  </div>
</template>

<style scoped>
h2 {
  font-size: 12.5px;
  padding: 10px 14px 4px;
}
.ver {
  display: flex;
  gap: 8px;
  align-items: center;
  padding: 2px 14px;
}
.called {
  flex: 1;
  min-width: 0;
  border: 0;
  background: none;
  padding: 2px 0;
  text-align: left;
  color: inherit;
  cursor: pointer;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.called i {
  color: var(--ink2);
}
.ver b {
  color: var(--lichen-ink);
  font-size: 12.5px;
}
.link {
  border: 0;
  background: none;
  color: var(--lichen-ink);
  font-weight: 600;
  cursor: pointer;
  padding: 0;
}
.open {
  background: var(--paper);
}
.more {
  display: flex;
  flex-direction: column;
  gap: 6px;
  padding: 2px 14px 10px;
  font-size: 12.5px;
}
.more .link {
  align-self: flex-start;
}
p {
  overflow-wrap: anywhere;
}
</style>
