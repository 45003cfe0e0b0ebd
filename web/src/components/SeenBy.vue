<script setup lang="ts">
import { computed, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import type { SpotOut } from '@/api/client'
import FilmStrip from '@/components/FilmStrip.vue'
import PhotoPane from '@/components/PhotoPane.vue'
import { fixed } from '@/i18n/numbers'
import { useProject } from '@/stores/project'

/** The photos that see a spot of the mesh, best first, each with the patch about the spot outlined. */
const props = defineProps<{ seen: SpotOut }>()
const { t } = useI18n()
const project = useProject()
const order = computed(() => props.seen.photos.map((p) => p.photo))
/** The best one comes into view. */
watch(order, (paths) => paths.length && (project.selected = paths[0]), { immediate: true })
const at = computed(() => order.value.indexOf(project.selected ?? ''))
const sight = computed(() => props.seen.photos[at.value] ?? null)
const unit = computed(() => (project.metric ? 'mm' : 'unit'))
const size = computed(() => {
  const p = project.photos.find((x) => x.path === project.selected)
  return [p?.width ?? 1, p?.height ?? 1]
})
const caption = computed(() =>
  sight.value
    ? t(`seen.caption_${unit.value}`, {
        photo: sight.value.photo,
        place: at.value + 1,
        n: props.seen.photos.length,
        angle: fixed(sight.value.angle_deg, 0),
        gsd: fixed(sight.value.gsd * 1000, 2),
        hidden: fixed(100 * (1 - sight.value.clear), 0),
      })
    : (project.selected ?? ''),
)
</script>

<template>
  <div class="seen">
    <p class="quiet" role="status">
      {{ t('seen.told', { n: seen.photos.length, of: seen.of }) }}
    </p>
    <PhotoPane :path="project.selected" :caption="caption">
      <svg v-if="sight" class="over" :viewBox="`0 0 ${size[0]} ${size[1]}`">
        <polygon :points="sight.outline.map((p) => p.join(',')).join(' ')" />
        <circle :cx="sight.at[0]" :cy="sight.at[1]" :r="size[0] / 400" />
      </svg>
    </PhotoPane>
    <FilmStrip v-if="order.length" :order="order" :only="order" />
  </div>
</template>

<style scoped>
.seen {
  display: grid;
  grid-template: auto minmax(0, 1fr) auto / minmax(0, 1fr);
  min-height: 0;
  min-width: 0;
}
p {
  margin: 0;
  padding: 6px 12px;
  border-bottom: 1px solid var(--joint);
}
.over {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  pointer-events: none;
}
polygon {
  fill: #43d0c926;
  stroke: #6ff0e0;
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
circle {
  fill: #6ff0e0;
  stroke: #06312f;
}
</style>
