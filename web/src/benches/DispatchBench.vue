<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, ask, tell, type Parcel } from '@/api/client'
import EmptyLayer from '@/components/EmptyLayer.vue'
import WorldPane from '@/components/WorldPane.vue'
import { fixed } from '@/i18n/numbers'
import { bytes, count } from '@/lib/format'
import { download } from '@/lib/download'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'
import { say } from '@/i18n/say'

const { t } = useI18n()
const project = useProject()
const jobs = useJobs()
const router = useRouter()
/** Whether lengths in the files are true ones, and how sure. */
const scale = computed(() => {
  const version = project.version('cameras')
  const figures = version?.layer === 'cameras' ? version.figures : {}
  return { from: figures.scale_from ?? 'nothing', sure: fixed(figures.scale_sigma_percent ?? 0, 2) }
})
const parcels = ref<Parcel[]>([])
const choice = reactive<Record<string, Pick<Parcel, 'up' | 'unit'>>>({})
/** Simpler levels besides the model, in every kind of parcel. */
const levels = ref(0)
const triangles = computed(() => parcels.value[0]?.triangles ?? [])
const making = ref<string | null>(null)
let world: World | null = null
const layer = computed(() =>
  project.version('finish') ? 'finish' : project.version('texture') ? 'texture' : null,
)

onMounted(async () => {
  if (!layer.value) return
  parcels.value = await ask(api.GET('/api/projects/{project_id}/dispatch', project.path))
  for (const p of parcels.value) choice[p.format] = { up: p.up, unit: p.unit }
})
/** Each level has a quarter of the triangles and of the texture of the one before. */
function sizeOf(p: Parcel): string {
  const parts = Array.from({ length: levels.value + 1 }, (_, k) => 4 ** -k)
  return bytes(p.bytes * parts.reduce((a, b) => a + b))
}
/** Have the file made where it is not there yet, then save it. */
async function save(p: Parcel) {
  making.value = p.format
  try {
    const wanted = { format: p.format, ...choice[p.format], levels: levels.value }
    const job = await ask(
      api.POST('/api/projects/{project_id}/dispatch/parcel', { ...project.path, body: wanted }),
      true,
    )
    const made = job ? await jobs.over(job.id) : null
    if (made?.state === 'failed') tell(say(made.message))
    else if (made?.state !== 'cancelled')
      download(
        `/api/projects/${project.id}/dispatch/parcel?${new URLSearchParams({ ...wanted, levels: String(wanted.levels) })}`,
        '',
      )
  } finally {
    making.value = null
  }
}
async function ready(w: World) {
  world = w
  if (!layer.value) return
  w.setGround(1)
  await w.setMesh(`/api/projects/${project.id}/layers/${layer.value}/mesh`, 'textured')
  w.home()
}
function still() {
  download(world!.picture(), `${project.project?.name ?? 'view'}.png`)
}
</script>

<template>
  <section class="bench">
    <EmptyLayer v-if="!layer" layer="dispatch" />
    <WorldPane v-else class="grow" :parts="['mesh', 'ground']" @ready="ready" />
    <Teleport to="#tray-top">
      <div v-if="layer" class="list">
        <p class="scale" :class="scale.from">
          {{ t(`dispatch.scale.${scale.from}`, { sure: scale.sure }) }}
          <button
            v-if="scale.from === 'nothing' || scale.from === 'height'"
            class="link"
            @click="router.push(`/projects/${project.id}/cameras`)"
          >
            {{ t('dispatch.scaleGo') }}
          </button>
        </p>
        <div v-if="triangles.length > 1" class="set levels" :title="t('dispatch.levelsHint')">
          <span>{{ t('dispatch.levels') }}</span>
          <span class="seg"
            ><button
              v-for="(_, k) in triangles"
              :key="k"
              :aria-label="t('dispatch.levelsOf', { n: k + 1 })"
              :aria-pressed="levels === k"
              @click="levels = k"
            >
              {{ k + 1 }}
            </button></span
          >
          <span class="quiet num">{{
            t('dispatch.triangles', {
              n: levels,
              counts: triangles
                .slice(0, levels + 1)
                .map(count)
                .join(' · '),
            })
          }}</span>
        </div>
        <article v-for="p in parcels" :key="p.format" class="parcel">
          <header>
            <b>{{ say(p.title) }}</b><span class="quiet num"
              >{{ t('dispatch.size', { size: sizeOf(p) }) }} ·
              {{ p.textured ? t('dispatch.textured') : t('dispatch.plainmesh') }}</span
            >
          </header>
          <div class="set">
            <span>{{ t('dispatch.up') }}</span>
            <span class="seg"
              ><button
                v-for="u in ['y', 'z'] as const"
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
                v-for="u in ['m', 'cm', 'mm'] as const"
                :key="u"
                :aria-pressed="choice[p.format].unit === u"
                @click="choice[p.format].unit = u"
              >
                {{ u }}
              </button></span
            >
            <button
              class="save"
              :data-format="p.format"
              :disabled="making !== null"
              :aria-busy="making === p.format"
              @click="save(p)"
            >
              {{ t(making === p.format ? 'dispatch.making' : 'dispatch.get') }}
            </button>
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
.scale {
  font-size: 13px;
  padding: 6px 10px;
  border-left: 3px solid var(--lichen);
}
.scale.nothing,
.scale.height {
  border-color: var(--ochre);
}
.link {
  border: 0;
  background: none;
  color: var(--lichen-ink);
  font-weight: 600;
  cursor: pointer;
  padding: 0;
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
.levels {
  margin: 0;
}
.save {
  margin-left: auto;
  background: var(--ochre);
  color: var(--on-ochre);
  padding: 4px 16px;
  border: 0;
  border-radius: 5px;
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
