<script setup lang="ts">
import { computed, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useElementSize } from '@vueuse/core'
import { ref } from 'vue'
import { api, ask, photoUrl, type CameraOut, type MatchOut } from '@/api/client'
import { useProject } from '@/stores/project'

/** Two photos, one above or beside the other, with a line between each place that they share. */
const props = defineProps<{ a: CameraOut; b: CameraOut }>()
const emit = defineEmits<{ close: [] }>()
const { t } = useI18n()
const project = useProject()
const matches = shallowRef<MatchOut[]>([])
const only = ref(false)
const pane = ref<HTMLDivElement>()
const room = useElementSize(pane)
/** Photos lie the way in which they come out larger. */
const below = computed(() => {
  const [w, h] = [room.width.value || 1, room.height.value || 1]
  const shape = props.a.width / props.a.height
  return Math.min(w / shape, h / 2) > Math.min(w / 2 / shape, h)
})
const place = computed(() => {
  const [a, b] = [props.a, props.b]
  const k = below.value ? a.width / b.width : a.height / b.height
  const [x, y] = below.value ? [0, a.height] : [a.width, 0]
  const [w, h] = below.value ? [a.width, a.height + b.height * k] : [a.width + b.width * k, a.height]
  return { k, x, y, w, h }
})
const shown = computed(() => matches.value.filter((m) => !only.value || m.agrees === false))
const wrong = computed(() => matches.value.filter((m) => m.agrees === false).length)

watch(
  () => [props.a.row, props.b.row],
  async ([a, b]) => {
    matches.value = []
    const query = { params: { ...project.path.params, query: { a, b } } }
    const found = await ask(api.GET('/api/v1/projects/{project_id}/layers/cameras/matches', query))
    if (a === props.a.row && b === props.b.row) matches.value = found as MatchOut[]
  },
  { immediate: true },
)
</script>

<template>
  <div ref="pane" class="pair">
    <svg :viewBox="`0 0 ${place.w} ${place.h}`" role="img" :aria-label="`${a.photo} – ${b.photo}`">
      <image :href="photoUrl(project.id, 'thumb', a.photo, 1600)" :width="a.width" :height="a.height" />
      <image
        :href="photoUrl(project.id, 'thumb', b.photo, 1600)"
        :x="place.x"
        :y="place.y"
        :width="b.width * place.k"
        :height="b.height * place.k"
      />
      <g v-for="(m, i) in shown" :key="i" :class="{ no: m.agrees === false }">
        <line :x1="m.a[0]" :y1="m.a[1]" :x2="place.x + m.b[0] * place.k" :y2="place.y + m.b[1] * place.k" />
      </g>
    </svg>
    <span class="cap photo-words"
      >{{ a.photo }} – {{ b.photo }} · {{ t('pairs.drawn', { n: shown.length, wrong }) }}</span
    >
    <span class="zoom photo-buttons">
      <button v-if="wrong" class="plainbtn" :aria-pressed="only" @click="only = !only">
        {{ t('pairs.only') }}
      </button>
      <button class="plainbtn" @click="emit('close')">{{ t('pairs.close') }}</button>
    </span>
  </div>
</template>

<style scoped>
.pair {
  position: relative;
  height: 100%;
  background: var(--surround);
  overflow: hidden;
}
svg {
  width: 100%;
  height: 100%;
  display: block;
}
line {
  stroke: #6ff0e0;
  stroke-width: 1;
  opacity: 0.7;
  vector-effect: non-scaling-stroke;
}
.no line {
  stroke: #ff9d6a;
  opacity: 0.9;
}
</style>
