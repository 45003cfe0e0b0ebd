<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, ask, tell, type Parcel } from '@/api/client'
import EmptyLayer from '@/components/EmptyLayer.vue'
import PrintCheck from '@/components/PrintCheck.vue'
import WorldPane from '@/components/WorldPane.vue'
import { fixed, number } from '@/i18n/numbers'
import { bytes, count } from '@/lib/format'
import { GROUPS, PLACES } from '@/lib/destinations'
import { download } from '@/lib/download'
import { useParcels } from '@/composables/useParcels'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'
import { say } from '@/i18n/say'
import { byArrows } from '@/lib/roving'

const { t } = useI18n()
const project = useProject()
const jobs = useJobs()
const router = useRouter()
const { fileOf, haveMade } = useParcels()
/** Whether lengths in the files are true ones, and how sure. */
const scale = computed(() => {
  const version = project.version('cameras')
  const figures = version?.layer === 'cameras' ? version.figures : {}
  return { from: figures.scale_from ?? 'nothing', sure: fixed(figures.scale_sigma_percent ?? 0, 2) }
})
const parcels = ref<Parcel[]>([])
/** How large the model is, in metres: across, back, up. */
const size = ref<number[]>([0, 0, 0])
const places = computed(() => PLACES.filter((d) => parcels.value.some((p) => p.format === d.format)))
const chosen = reactive({
  format: 'glb' as Parcel['format'],
  up: 'y' as Parcel['up'],
  unit: 'm' as Parcel['unit'],
})
const parcel = computed(() => parcels.value.find((p) => p.format === chosen.format) ?? null)
const group = ref<(typeof GROUPS)[number]>('model')
const shown = computed(() => places.value.filter((p) => p.group === group.value))
function goToGroup(g: (typeof GROUPS)[number]) {
  group.value = g
  if (shown.value[0]) goTo(shown.value[0])
}
function goTo(place: (typeof PLACES)[number]) {
  Object.assign(chosen, { format: place.format, up: place.up, unit: place.unit })
}
/** Simpler levels besides the model. */
const levels = ref(0)
const triangles = computed(() => parcel.value?.triangles ?? [])
const making = ref(false)
const PER_METRE = { m: 1, cm: 100, mm: 1000 }
/** How large the model will be there, and which way it stands. */
const arrives = computed(() => {
  const k = PER_METRE[chosen.unit]
  const shown = size.value.map((v) => number(Number((k * v).toPrecision(3))))
  return t('dispatch.arrives', {
    size: shown.join(' × '),
    unit: chosen.unit,
    up: chosen.up.toUpperCase(),
  })
})
let world: World | null = null
const layer = computed(() =>
  project.version('finish') ? 'finish' : project.version('texture') ? 'texture' : null,
)

/** Edits in Finish that are not saved: what is shown and saved here is without them. */
const unsaved = ref(0)
const keeping = ref(false)
async function fetchKinds() {
  if (!layer.value) return
  const told = await ask(api.GET('/api/v1/projects/{project_id}/dispatch', project.path))
  parcels.value = told.kinds
  size.value = told.size
  unsaved.value = told.unsaved
}
onMounted(fetchKinds)
async function keepEdits() {
  keeping.value = true
  try {
    const job = await ask(api.POST('/api/v1/projects/{project_id}/draft/keep', project.path), true)
    const over = await jobs.over(job.id)
    if (over?.state === 'failed') return tell(say(over.message))
    await project.refresh(['layers'])
    await fetchKinds()
    if (world) await show(world)
  } finally {
    keeping.value = false
  }
}
/** Each level has a quarter of the triangles and of the texture of the one before. */
function sizeOf(p: Parcel): string {
  const count = p.triangles.length ? levels.value : 0
  const parts = Array.from({ length: count + 1 }, (_, k) => 4 ** -k)
  return bytes(p.bytes * parts.reduce((a, b) => a + b))
}
/** Have the file made where it is not there yet, then save it. */
async function save(p: Parcel) {
  making.value = true
  try {
    const wanted = { ...chosen, levels: p.triangles.length ? levels.value : 0 }
    if (await haveMade(wanted)) download(fileOf(wanted), '')
  } finally {
    making.value = false
  }
}
async function show(w: World) {
  w.setGround(1)
  const number = project.layer(layer.value!)?.number ?? 0
  await w.setMesh(`/api/v1/projects/${project.id}/layers/${layer.value}/mesh?number=${number}`, 'textured')
}
async function ready(w: World) {
  world = w
  if (!layer.value) return
  await show(w)
  w.views.home()
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
        <p v-if="unsaved" class="scale height" role="status">
          {{ t('dispatch.unsaved', { n: unsaved }) }}
          <button class="link" :disabled="keeping" @click="keepEdits">
            {{ t(keeping ? 'finish.keeping' : 'finish.keep') }}
          </button>
        </p>
        <h2>{{ t('dispatch.where') }}</h2>
        <span class="seg wide" role="group" :aria-label="t('dispatch.what')"
          ><button v-for="g in GROUPS" :key="g" :aria-pressed="group === g" @click="goToGroup(g)">
            {{ t(`dispatch.group.${g}`) }}
          </button></span
        >
        <div role="radiogroup" :aria-label="t('dispatch.where')" class="places" @keydown="byArrows">
          <button
            v-for="d in shown"
            :key="d.name"
            class="place"
            role="radio"
            :data-format="d.format"
            :aria-checked="chosen.format === d.format"
            :tabindex="chosen.format === d.format ? 0 : -1"
            @click="goTo(d)"
          >
            <b>{{ t(`dispatch.place.${d.name}`) }}</b>
            <small>{{ say(parcels.find((p) => p.format === d.format)!.title) }}</small>
          </button>
        </div>
        <div v-if="parcel" class="parcel">
          <div v-if="parcel.asks" class="set">
            <span>{{ t('dispatch.up') }}</span>
            <span class="seg"
              ><button
                v-for="u in ['y', 'z'] as const"
                :key="u"
                :aria-pressed="chosen.up === u"
                @click="chosen.up = u"
              >
                {{ u.toUpperCase() }}
              </button></span
            >
            <span>{{ t('dispatch.unit') }}</span>
            <span class="seg"
              ><button
                v-for="u in ['m', 'cm', 'mm'] as const"
                :key="u"
                :aria-pressed="chosen.unit === u"
                @click="chosen.unit = u"
              >
                {{ u }}
              </button></span
            >
          </div>
          <div v-if="triangles.length > 1" class="set levels">
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
            <small v-if="levels" class="quiet">{{ t('dispatch.levelsHint') }}</small>
          </div>
          <p class="arrives">
            {{ arrives }}<br /><span class="quiet">{{ t(`dispatch.carries.${parcel.carries}`) }}</span>
          </p>
          <PrintCheck v-if="parcel.format === '3mf' || parcel.format === 'stl'" />
          <button
            class="save"
            :data-format="parcel.format"
            :disabled="making"
            :aria-busy="making"
            @click="save(parcel)"
          >
            {{ t(making ? 'dispatch.making' : 'dispatch.get') }}
            <small class="num">{{ t('dispatch.size', { size: sizeOf(parcel) }) }}</small>
          </button>
        </div>
        <div class="pairs">
          <button class="plainbtn" @click="still">{{ t('dispatch.still') }}</button>
          <a class="plainbtn" :href="`/api/v1/projects/${project.id}/dispatch/recipe`" download>{{
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
.places {
  display: grid;
  gap: 4px;
}
.place {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0 10px;
  align-items: baseline;
  border: 1px solid var(--joint);
  border-radius: 5px;
  background: var(--paper);
  padding: 5px 10px;
  text-align: left;
  cursor: pointer;
}
.place b {
  font-weight: 600;
}
.place small {
  color: var(--ink2);
  font-size: 12px;
}
.place[aria-checked='true'] {
  border-color: var(--lichen);
  background: var(--lichen-bg);
}
.parcel {
  display: grid;
  gap: 8px;
}
.set {
  display: flex;
  gap: 8px;
  align-items: center;
  flex-wrap: wrap;
}
.arrives {
  margin: 0;
}
.save {
  background: var(--ochre);
  color: var(--on-ochre);
  padding: 8px 16px;
  border: 0;
  border-radius: 5px;
  font-weight: 600;
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  cursor: pointer;
}
h2 {
  font-size: 12.5px;
  margin: 0;
}
.wide {
  display: flex;
}
.wide button {
  flex: 1;
  padding-inline: 4px;
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
