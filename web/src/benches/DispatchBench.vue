<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Parcel } from '@/api/client'
import WorldPane from '@/components/WorldPane.vue'
import { bytes } from '@/lib/format'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'

const { t } = useI18n()
const project = useProject()
const parcels = ref<Parcel[]>([])
const choice = reactive<Record<string, { up: string; unit: string }>>({})
let world: World | null = null
const layer = computed(() =>
  project.version('finish') ? 'finish' : project.version('texture') ? 'texture' : null,
)

onMounted(async () => {
  if (!layer.value) return
  parcels.value = await ask(api.GET('/api/projects/{project_id}/dispatch', project.path))
  for (const p of parcels.value) choice[p.format] = { up: p.up, unit: p.unit }
})
const href = (p: Parcel) =>
  `/api/projects/${project.id}/dispatch/parcel?format=${p.format}&up=${choice[p.format].up}&unit=${choice[p.format].unit}`
async function ready(w: World) {
  world = w
  if (!layer.value) return
  w.setGround(1)
  await w.setMesh(`/api/projects/${project.id}/layers/${layer.value}/mesh`, 'textured')
  w.home()
}
function still() {
  const a = document.createElement('a')
  a.href = world!.picture()
  a.download = `${project.project?.name ?? 'view'}.png`
  a.click()
}
</script>

<template>
  <section class="bench">
    <div v-if="!layer" class="emptynote">{{ t('dispatch.need') }}</div>
    <WorldPane v-else class="grow" :parts="['mesh', 'ground']" @ready="ready" />
    <Teleport to="#tray-top">
      <div v-if="layer" class="list">
        <article v-for="p in parcels" :key="p.format" class="parcel">
          <header>
            <b>{{ p.title }}</b><span class="quiet num"
              >{{ t('dispatch.size', { size: bytes(p.bytes) }) }} ·
              {{ p.textured ? t('dispatch.textured') : t('dispatch.plainmesh') }}</span
            >
          </header>
          <div class="set">
            <span>{{ t('dispatch.up') }}</span>
            <span class="seg"
              ><button
                v-for="u in ['y', 'z']"
                :key="u"
                :aria-pressed="choice[p.format].up === u"
                @click="choice[p.format].up = u"
              >
                {{ u.toUpperCase() }}
              </button></span
            >
            <span>{{ t('dispatch.unit') }}</span>
            <span class="seg"
              ><button
                v-for="u in ['m', 'cm', 'mm']"
                :key="u"
                :aria-pressed="choice[p.format].unit === u"
                @click="choice[p.format].unit = u"
              >
                {{ u }}
              </button></span
            >
            <a class="save" :href="href(p)" :data-format="p.format" download>{{ t('dispatch.get') }}</a>
          </div>
        </article>
        <div class="pairs">
          <button class="plainbtn" @click="still">{{ t('dispatch.still') }}</button>
          <a class="plainbtn" :href="`/api/projects/${project.id}/dispatch/recipe`" download>{{
            t('dispatch.recipe')
          }}</a>
        </div>
      </div>
    </Teleport>
  </section>
</template>

<style scoped>
.grow {
  flex: 1;
}
.list {
  padding: 14px;
  display: flex;
  flex-direction: column;
  gap: 10px;
}
.parcel {
  background: var(--stone);
  border: 1px solid var(--joint);
  border-radius: 6px;
  padding: 10px 12px;
}
header {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  justify-content: space-between;
}
.set {
  display: flex;
  gap: 8px;
  align-items: center;
  margin-top: 8px;
  flex-wrap: wrap;
}
.save {
  margin-left: auto;
  background: var(--ochre);
  color: var(--on-ochre);
  padding: 4px 16px;
  border-radius: 5px;
  text-decoration: none;
  font-weight: 600;
}
.pairs {
  display: flex;
  gap: 8px;
}
.pairs a {
  color: inherit;
  text-decoration: none;
}
</style>
