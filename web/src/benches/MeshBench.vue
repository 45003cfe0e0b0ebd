<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type SpotOut } from '@/api/client'
import EmptyLayer from '@/components/EmptyLayer.vue'
import SeenBy from '@/components/SeenBy.vue'
import SplitPane from '@/components/SplitPane.vue'
import WorldPane from '@/components/WorldPane.vue'
import { useProject } from '@/stores/project'
import { useKeys } from '@/composables/useKeys'
import { useCompared, useWorldOf } from '@/composables/useWorldOf'
import type { MeshMode } from '@/world/World'

const props = defineProps<{ layer: string; compared: number | null }>()
const { t, locale } = useI18n()
const project = useProject()
const mode = ref<MeshMode>(props.layer === 'texture' ? 'textured' : 'plain')
const number = computed(() => project.layer(props.layer)?.number ?? null)
const url = (n: number) => `/api/projects/${project.id}/layers/${props.layer}/mesh?number=${n}`
const poster = computed(
  () => `/api/projects/${project.id}/layers/${props.layer}/poster?number=${number.value}`,
)
const atlas = computed(() =>
  props.layer === 'texture' && number.value
    ? `/api/projects/${project.id}/layers/texture/atlas?number=${number.value}`
    : null,
)
/** What no photo saw, laid over the texture. */
const guessed = computed(() =>
  atlas.value ? `/api/projects/${project.id}/layers/texture/guessed?number=${number.value}` : '',
)
const marked = ref(false)
const unknown = ref(false)
watch(number, () => (unknown.value = false))
const share = computed(() => project.version('texture')?.figures.unseen_percent as number | undefined)

/** The spot of the mesh that was pressed, and who sees it. */
const seen = shallowRef<SpotOut | null>(null)
async function look(at: number[]) {
  const [x, y, z] = at
  const params = {
    path: { project_id: project.id, layer: props.layer },
    query: { x, y, z, number: number.value },
  }
  const found = (await ask(
    api.GET('/api/projects/{project_id}/layers/{layer}/seen-by', { params }),
  )) as SpotOut
  seen.value = found
  world.value?.setSpot({ at, normal: found.normal, side: found.side })
}
function forget() {
  seen.value = null
  world.value?.setSpot(null)
}
useKeys(`layers.${props.layer}`, [{ keys: 'Escape', says: 'keys.noSpot', act: forget }])

const { world, ready } = useWorldOf(number, async (w, n) => {
  w.setGround(1)
  forget()
  w.onSpot = (p) => void look(p.toArray())
  await w.setMesh(url(n), mode.value)
})
useCompared(
  world,
  () => props.compared,
  (w, n) => w.setMesh(url(n), mode.value, true),
)
watch(mode, (m) => world.value?.setMeshMode(m))
const modes = computed<MeshMode[]>(() =>
  props.layer === 'texture' ? ['textured', 'plain', 'wire', 'glass'] : ['plain', 'wire', 'glass'],
)
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button v-for="m in modes" :key="m" :aria-pressed="mode === m" @click="mode = m">
          {{ t(`world.${m}`) }}
        </button></span
      >
      <button v-if="seen" class="plainbtn" @click="forget">{{ t('seen.close') }}</button>
      <button v-if="atlas && !seen" class="plainbtn" :aria-pressed="marked" @click="marked = !marked">
        {{ t('world.unseen', { percent: (share ?? 0).toLocaleString(locale) }) }}
      </button>
      <span v-if="compared !== null" class="quiet num"
        >{{ t(`layers.${layer}`) }} {{ number }} | {{ compared }}</span
      >
      <span class="end quiet">{{ t('world.hint') }}</span>
    </div>
    <EmptyLayer v-if="number === null" :layer="layer" />
    <SplitPane v-else :key="props.layer" :name="props.layer" :aspect="1" :off="!atlas && !seen">
      <template #first
        ><WorldPane
          :parts="['mesh', 'ground']"
          :poster="poster"
          :legend="seen ? '' : t('seen.hint')"
          :comparing="compared !== null"
          @ready="ready"
      /></template>
      <template #second>
        <SeenBy v-if="seen" :seen="seen" />
        <div v-else-if="atlas" class="atlas">
          <img :src="atlas" :alt="t('world.atlas')" />
          <img v-if="marked && !unknown" :src="guessed" :alt="t('world.unseenMap')" @error="unknown = true" />
          <p v-if="marked && unknown" class="quiet note">{{ t('world.unseenUnknown') }}</p>
        </div>
      </template>
    </SplitPane>
  </section>
</template>

<style scoped>
.atlas {
  background: var(--surround);
  display: grid;
  place-items: center;
  padding: 12px;
}
.atlas > * {
  grid-area: 1 / 1;
}
.atlas .note {
  align-self: end;
}
.atlas img {
  max-width: 100%;
  max-height: 100%;
  min-height: 0;
}
</style>
