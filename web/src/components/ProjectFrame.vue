<script setup lang="ts">
import { useEventListener, watchDebounced } from '@vueuse/core'
import { type Component, computed, defineAsyncComponent, provide, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, type Job } from '@/api/client'
import Beds from '@/components/Beds.vue'
import KeySheet from '@/components/KeySheet.vue'
import JobLine from '@/components/JobLine.vue'
import Tray from '@/components/Tray.vue'
import NowhereView from '@/views/NowhereView.vue'
import PhotosBench from '@/benches/PhotosBench.vue'
import { useKeys } from '@/composables/useKeys'
import LanguageSelect from '@/components/LanguageSelect.vue'
import { useTheme } from '@/composables/useTheme'
import { useJobs } from '@/stores/jobs'
import { PARTS, PROJECT, projectOf, type Part } from '@/stores/project'

const props = defineProps<{ id: string; layer?: string }>()
provide(PROJECT, Number(props.id))
const { t } = useI18n()
const router = useRouter()
const project = projectOf(Number(props.id))
const jobs = useJobs()
const { dusk } = useTheme()
const compared = ref<number | null>(null)
const LAYERS = ['plan', 'photos', 'masks', 'cameras', 'points', 'surface', 'texture', 'finish', 'dispatch']

/** A new project is asked what there is already. */
const open = computed(() => ([...LAYERS, 'start'].includes(props.layer ?? '') ? props.layer! : 'photos'))
const mesh = () => import('@/benches/MeshBench.vue')
const LOADERS: Record<string, () => Promise<unknown>> = {
  start: () => import('@/benches/StartBench.vue'),
  plan: () => import('@/benches/PlanBench.vue'),
  masks: () => import('@/benches/MasksBench.vue'),
  cameras: () => import('@/benches/CamerasBench.vue'),
  points: () => import('@/benches/PointsBench.vue'),
  surface: mesh,
  texture: mesh,
  finish: () => import('@/benches/FinishBench.vue'),
  dispatch: () => import('@/benches/DispatchBench.vue'),
}
const benches: Record<string, unknown> = {
  photos: PhotosBench,
  ...Object.fromEntries(
    Object.entries(LOADERS).map(([k, load]) => [k, defineAsyncComponent(load as () => Promise<Component>)]),
  ),
}
// the code of the open layer is fetched while the project is
void LOADERS[open.value]?.()

const pick = (layer: string) => router.push(`/projects/${props.id}/${layer}`)
watch(open, () => (compared.value = null))
/** Whether there is no such project, or no longer. */
const nowhere = ref(false)
void api
  .GET('/api/v1/projects/{project_id}', project.path)
  .then(({ data, response }) => {
    nowhere.value = response.status === 404 || response.status === 422
    if (nowhere.value) return
    if (data) project.project = data
    return project.refresh(data ? ['layers', 'photos'] : PARTS)
  })
  .catch(() => undefined)
/** While the server is away the job line says so; it need not be said twice. */
const again = (what?: readonly Part[]) => project.refresh(what).catch(() => undefined)
// a layer that ended shows its result at once; so does what another page changed, and a server that is back
const mine = (job: Job | null | undefined) => (job && String(job.project_id) === props.id ? job : null)
watch(
  () => mine(jobs.ended),
  (job) => job && again(),
)
// a run passes over layers that are as they should be in no time: only one it stays with is asked about
watchDebounced(
  () => jobs.active.find((j) => j.state === 'running' && mine(j))?.layer,
  (layer) => layer && again(['layers', 'project']),
  { debounce: 1500, maxWait: 5000 },
)
watch(
  () => jobs.changes,
  (now, before) => {
    // what was changed before this page listened, it has fetched as it is
    const parts = before ? project.changedElsewhere(now?.[props.id], before[props.id]) : []
    if (parts.length) void again(parts)
  },
)
watch(
  () => jobs.connected,
  (there) => there && void again(),
)

// a message about a failure leads to the layer where it can be mended
useEventListener(document, 'vq-go', (e) => pick((e as CustomEvent<string>).detail))

useKeys(
  'keys.layers',
  LAYERS.map((layer, k) => ({ keys: String(k + 1), says: `layers.${layer}`, act: () => pick(layer) })),
)
</script>

<template>
  <NowhereView v-if="nowhere" what="project" />
  <div v-else class="frame">
    <aside class="left" :aria-label="t('app.layers')">
      <header>
        <button class="back" @click="router.push('/')">‹ {{ t('app.back') }}</button>
        <h1 dir="auto">{{ project.project?.name }}</h1>
        <span class="quiet"
          ><LanguageSelect /><span
            ><KeySheet /><button class="theme" @click="dusk = !dusk">
              {{ dusk ? t('app.day') : t('app.dusk') }}
            </button></span
          >
        </span>
      </header>
      <Beds :open="open" @pick="pick" />
    </aside>
    <main>
      <component
        :is="benches[open]"
        v-if="project.project && project.layers.length"
        :key="`${id}-${open}`"
        :layer="open"
        :compared="compared"
      />
    </main>
    <aside class="right" :aria-label="t('app.tray')">
      <div id="tray-top"></div>
      <Tray
        v-if="project.project"
        :layer="open"
        :compared="compared"
        @compare="compared = $event"
        @go="pick"
      />
    </aside>
    <JobLine class="job" />
  </div>
</template>

<style scoped>
.frame {
  height: 100%;
  display: grid;
  grid-template: minmax(0, 1fr) 32px / 218px minmax(0, 1fr) 290px;
}
.left {
  display: flex;
  flex-direction: column;
  min-height: 0;
  border-right: 1px solid var(--joint);
}
.left header {
  padding: 8px 14px 14px;
  background: var(--paper);
}
.left h1 {
  display: block;
  font-size: 15.5px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.left .quiet {
  font-size: 12.5px;
  display: flex;
  justify-content: space-between;
}
.back,
.theme {
  border: 0;
  background: none;
  color: var(--lichen-ink);
  cursor: pointer;
  padding: 0;
  min-height: 24px;
  font-size: 12.5px;
}
main {
  min-width: 0;
  min-height: 0;
  background: var(--paper);
}
.right {
  border-left: 1px solid var(--joint);
  background: var(--paper);
  min-height: 0;
  display: flex;
  flex-direction: column;
  overflow: auto;
}
.right > :last-child {
  flex: 1;
}
.job {
  grid-column: 1 / 4;
}
@media (max-width: 900px) {
  .frame {
    grid-template-columns: 150px minmax(0, 1fr) 220px;
  }
}
/* a small window, or a large zoom: layers in a row above, settings below the bench, all of it scrolled */
@media (max-width: 720px) {
  .frame {
    display: block;
    overflow: auto;
    padding-bottom: 32px;
  }
  main {
    height: max(360px, 80vh);
  }
  .job {
    position: fixed;
    left: 0;
    right: 0;
    bottom: 0;
    z-index: 10;
  }
}
</style>
