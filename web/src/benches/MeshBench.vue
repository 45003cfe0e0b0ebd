<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import WorldPane from '@/components/WorldPane.vue'
import { useProject } from '@/stores/project'
import type { MeshMode, World } from '@/world/World'

const props = defineProps<{ layer: string; compared: number | null }>()
const { t } = useI18n()
const project = useProject()
const mode = ref<MeshMode>(props.layer === 'texture' ? 'textured' : 'plain')
let world: World | null = null
let framed = false
const number = computed(() => project.layer(props.layer)?.number ?? null)
const url = (n: number) => `/api/projects/${project.id}/layers/${props.layer}/mesh?number=${n}`
const atlas = computed(() =>
  props.layer === 'texture' && number.value
    ? `/api/projects/${project.id}/layers/texture/atlas?number=${number.value}`
    : null,
)

async function load() {
  if (!world || number.value === null) return
  world.setGround(1)
  await world.setMesh(url(number.value), mode.value)
  if (!framed) world.home()
  framed = true
}
watch(number, load)
watch(mode, (m) => world?.setMeshMode(m))
watch(
  () => props.compared,
  async (n) => {
    if (!world) return
    if (n === null) world.split = null
    else {
      await world.setMesh(url(n), mode.value, true)
      world.split = 0.5
    }
    world.request()
  },
)
const modes = computed<MeshMode[]>(() =>
  props.layer === 'texture' ? ['textured', 'plain', 'wire', 'glass'] : ['plain', 'wire', 'glass'],
)
function ready(w: World) {
  world = w
  void load()
}
</script>

<template>
  <section class="bench">
    <div class="bar">
      <span class="seg"
        ><button v-for="m in modes" :key="m" :aria-pressed="mode === m" @click="mode = m">
          {{ t(`world.${m}`) }}
        </button></span
      >
      <span v-if="compared !== null" class="quiet num"
        >{{ t(`layers.${layer}`) }} {{ number }} | {{ compared }}</span
      >
      <span class="end quiet">{{ t('world.hint') }}</span>
    </div>
    <div v-if="number === null" class="emptynote">{{ t('world.empty') }}</div>
    <div v-else class="split" :class="{ whole: !atlas }">
      <WorldPane :parts="['mesh', 'ground']" :comparing="compared !== null" @ready="ready" />
      <div v-if="atlas" class="atlas"><img :src="atlas" alt="" /></div>
    </div>
  </section>
</template>

<style scoped>
.whole {
  grid-template-columns: 1fr;
}
.atlas {
  background: #2b2a27;
  display: grid;
  place-items: center;
  padding: 12px;
}
.atlas img {
  max-width: 100%;
  max-height: 100%;
  min-height: 0;
}
</style>
