<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { photoUrl, type Photo } from '@/api/client'
import { useProject } from '@/stores/project'
import { say } from '@/i18n/say'

const props = defineProps<{
  overlay?: (path: string) => string | null
  order?: string[]
  only?: string[] | null
}>()
const { t } = useI18n()
const project = useProject()
const host = ref<HTMLElement | null>(null)
const { width } = useElementSize(host)
const MARKS: Record<string, string> = { placed: '●', weak: '◐', loose: '○' }

/** The photos in the wished order. */
const photos = computed(() => {
  const wanted = props.only ? new Set(props.only) : null
  const shown = wanted ? project.photos.filter((p) => wanted.has(p.path)) : project.photos
  if (!props.order) return shown
  const at = new Map(props.order.map((path, k) => [path, k]))
  return [...shown].sort((a, b) => (at.get(a.path) ?? 1e9) - (at.get(b.path) ?? 1e9))
})
const mark = (p: Photo) => {
  if (!p.kept || p.problem) return '⌀'
  if (p.judged && p.judged.proposal !== 'keep') return p.judged.proposal === 'leave out' ? '◆' : '◇'
  return p.state ? MARKS[p.state] : ''
}
const columns = computed(() => Math.max(2, Math.floor((width.value - 12) / 172)))
const rows = computed(() => Math.ceil(photos.value.length / columns.value))
const virtual = useVirtualizer(
  computed(() => ({
    count: rows.value,
    getScrollElement: () => host.value,
    estimateSize: () => 158,
    overscan: 3,
  })),
)
const inRow = (k: number) => photos.value.slice(k * columns.value, (k + 1) * columns.value)

function keys(e: KeyboardEvent) {
  const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: columns.value, ArrowUp: -columns.value }[e.key]
  if (!step) return
  e.preventDefault()
  const at = photos.value.findIndex((p) => p.path === project.selected)
  const next = Math.min(photos.value.length - 1, Math.max(0, at + step))
  project.selected = photos.value[next].path
  virtual.value.scrollToIndex(Math.floor(next / columns.value))
}
</script>

<template>
  <div ref="host" class="sheet" tabindex="0" role="listbox" :aria-label="t('layers.photos')" @keydown="keys">
    <div :style="{ height: `${virtual.getTotalSize()}px`, position: 'relative' }">
      <div
        v-for="r in virtual.getVirtualItems()"
        :key="r.index"
        class="line"
        :style="{ transform: `translateY(${r.start}px)`, gridTemplateColumns: `repeat(${columns}, 1fr)` }"
      >
        <button
          v-for="p in inRow(r.index)"
          :key="p.path"
          class="ph"
          role="option"
          tabindex="-1"
          :aria-selected="p.path === project.selected"
          :class="{ on: p.path === project.selected, out: !p.kept || p.problem }"
          :title="p.problem ? `${p.path} ${say(p.problem)}` : p.path"
          @click="project.selected = p.path"
        >
          <span class="pic">
            <img
              v-if="!p.problem || p.width"
              :src="photoUrl(project.id, 'thumb', p.path)"
              alt=""
              decoding="async"
            />
            <img
              v-if="props.overlay?.(p.path)"
              class="over"
              :src="props.overlay(p.path)!"
              alt=""
              @error="($event.target as HTMLImageElement).hidden = true"
            />
          </span>
          <span class="cap"
            ><span>{{ p.path.split('/').pop() }}</span
            ><b :title="say(p.judged?.says)"
              ><i v-if="p.masked" :title="t('photos.masked')">▨</i> {{ mark(p) }}</b
            ></span
          >
        </button>
      </div>
    </div>
  </div>
</template>

<style scoped>
.sheet {
  overflow: auto;
  background: var(--stone);
  padding: 8px;
  height: 100%;
}
.line {
  position: absolute;
  left: 0;
  right: 0;
  display: grid;
  gap: 8px;
  height: 150px;
  contain: strict;
}
.ph {
  background: var(--paper);
  border: 1px solid var(--joint);
  border-radius: 5px;
  overflow: hidden;
  font-size: 12px;
  padding: 0;
  cursor: pointer;
  display: flex;
  flex-direction: column;
  min-width: 0;
}
.pic {
  position: relative;
  flex: 1;
  min-height: 0;
  width: 100%;
  background: var(--stone2);
}
.pic img {
  width: 100%;
  height: 100%;
  object-fit: cover;
  display: block;
}
.pic .over {
  position: absolute;
  inset: 0;
}
.cap {
  display: flex;
  justify-content: space-between;
  padding: 2px 7px;
  gap: 6px;
  width: 100%;
}
.cap span {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  color: var(--ink2);
}
.on {
  border-color: var(--lichen);
  box-shadow: 0 0 0 1.5px var(--lichen);
}
.out .pic {
  opacity: 0.4;
}
.cap i {
  font-style: normal;
  font-weight: 400;
  color: var(--ink2);
}
.out b {
  color: var(--rust);
}
</style>
