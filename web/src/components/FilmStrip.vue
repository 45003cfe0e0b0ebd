<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { useElementSize } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { photoUrl } from '@/api/client'
import { markOf, ordered } from '@/lib/sheet'
import { useProject } from '@/stores/project'

/** Photos in a row under the large one; the chosen one stays in the middle. */
const props = defineProps<{ order?: string[]; only?: string[] | null }>()
const { t } = useI18n()
const project = useProject()
const host = ref<HTMLElement | null>(null)
/** Height of the row and shape of its pictures. */
const [TALL, GAP] = [64, 4]
const wide = computed(() => Math.round(TALL * Math.min(2, Math.max(0.6, project.aspect))))

const photos = computed(() => ordered(project.photos, props.order, props.only))
const at = computed(() => photos.value.findIndex((p) => p.path === project.selected))
const virtual = useVirtualizer(
  computed(() => ({
    count: photos.value.length,
    horizontal: true,
    getScrollElement: () => host.value,
    estimateSize: () => wide.value + GAP,
    overscan: 6,
  })),
)
/** Room of the row: before it is known nothing can be put in its middle. */
const { width: room } = useElementSize(host)
watch(wide, () => virtual.value.measure())
watch(
  [at, room, wide, () => photos.value.length],
  () => room.value && at.value >= 0 && virtual.value.scrollToIndex(at.value, { align: 'center' }),
  { flush: 'post' },
)

function keys(e: KeyboardEvent) {
  const last = photos.value.length - 1
  const step = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1, PageDown: 10, PageUp: -10 }[e.key]
  const to = e.key === 'Home' ? 0 : e.key === 'End' ? last : step ? at.value + step : null
  if (to === null || last < 0) return
  e.preventDefault()
  project.selected = photos.value[Math.min(last, Math.max(0, to))].path
}
/** A wheel turns the row, as it has nothing to scroll up or down. */
function wheel(e: WheelEvent) {
  if (!host.value || Math.abs(e.deltaX) > Math.abs(e.deltaY)) return
  e.preventDefault()
  host.value.scrollLeft += e.deltaY
}
</script>

<template>
  <div
    ref="host"
    class="film"
    tabindex="0"
    role="listbox"
    aria-orientation="horizontal"
    :aria-label="t('photos.film')"
    @keydown="keys"
    @wheel="wheel"
  >
    <div
      role="presentation"
      :style="{ width: `${virtual.getTotalSize()}px`, height: `${TALL}px`, position: 'relative' }"
    >
      <button
        v-for="v in virtual.getVirtualItems()"
        :key="photos[v.index].path"
        class="one"
        role="option"
        tabindex="-1"
        :aria-label="photos[v.index].path"
        :aria-selected="v.index === at"
        :class="{ on: v.index === at, out: !photos[v.index].kept || photos[v.index].problem }"
        :title="photos[v.index].path"
        :style="{ transform: `translateX(${v.start}px)`, width: `${wide}px`, height: `${TALL}px` }"
        @click="project.selected = photos[v.index].path"
      >
        <img
          v-if="!photos[v.index].problem || photos[v.index].width"
          :src="photoUrl(project.id, 'thumb', photos[v.index].path)"
          alt=""
          decoding="async"
        /><b>{{ markOf(photos[v.index]) }}</b>
      </button>
    </div>
  </div>
</template>

<style scoped>
.film {
  overflow-x: auto;
  overflow-y: hidden;
  padding: 5px 8px;
  background: var(--stone);
  border-top: 1px solid var(--joint);
}
.one {
  position: absolute;
  padding: 0;
  border: 1px solid var(--joint);
  border-radius: 4px;
  overflow: hidden;
  background: var(--stone2);
  cursor: pointer;
}
.one img {
  width: 100%;
  height: 100%;
  object-fit: cover;
  display: block;
}
.one b {
  position: absolute;
  right: 0;
  bottom: 0;
  padding: 0 3px;
  font-size: 11px;
  color: var(--ink);
  background: color-mix(in srgb, var(--paper) 80%, transparent);
}
.one b:empty {
  display: none;
}
.on {
  border-color: var(--lichen);
  box-shadow: 0 0 0 2px var(--lichen);
}
.out img {
  opacity: 0.4;
}
.out b {
  color: var(--rust);
}
</style>
