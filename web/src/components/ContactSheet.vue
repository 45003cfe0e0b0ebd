<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { useElementSize, useLocalStorage } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { photoUrl } from '@/api/client'
import { markOf, ordered, pickedBy, rowsOf, type SheetRow } from '@/lib/sheet'
import { useProject } from '@/stores/project'
import { say } from '@/i18n/say'

const props = defineProps<{
  overlay?: (path: string) => string | null
  order?: string[]
  only?: string[] | null
}>()
const emit = defineEmits<{ open: [path: string] }>()
/** Several photos that were picked together. */
const picked = defineModel<string[]>('picked', { default: () => [] })
type Heading = Extract<SheetRow, { kind: 'heading' }>
type Line = Extract<SheetRow, { kind: 'photos' }>
const { t } = useI18n()
const project = useProject()
const host = ref<HTMLElement | null>(null)
const { width } = useElementSize(host)

/** The photos in the wished order. */
const photos = computed(() => ordered(project.photos, props.order, props.only))
/** Width of a thumbnail: from over two hundred on a screen to a dozen. */
const [LEAST, MOST] = [38, 420]
const wished = useLocalStorage('vq-sheet-size', 164)
const size = computed({
  get: () => Math.min(MOST, Math.max(LEAST, wished.value)),
  set: (x) => (wished.value = Math.round(Math.min(MOST, Math.max(LEAST, x)))),
})
const small = computed(() => size.value < 110)
const columns = computed(() => Math.max(1, Math.floor((width.value - 8) / (size.value + 8))))
const folded = ref(new Set<string>())
/** Sets are headings where photos are in their own order, and there are several. */
const grouped = computed(
  () => !props.order && !props.only && new Set(photos.value.map((p) => p.set)).size > 1,
)
const rows = computed(() => rowsOf(photos.value, columns.value, grouped.value ? folded.value : null))
const tall = computed(
  () => Math.round(((width.value - 8) / columns.value - 8) * 0.72) + (small.value ? 0 : 24),
)
const virtual = useVirtualizer(
  computed(() => ({
    count: rows.value.length,
    getScrollElement: () => host.value,
    estimateSize: (k: number) => (rows.value[k]?.kind === 'heading' ? 32 : tall.value + 8),
    overscan: 3,
  })),
)
watch([rows, tall], () => virtual.value.measure())

/** Photos in the order of the sheet, as far as they are not folded away. */
const shown = computed(() =>
  rows.value.flatMap((r) => (r.kind === 'photos' ? r.photos : [])).map((p) => p.path),
)
const inside = computed(() => new Set(picked.value))
function fold(set: string) {
  const next = new Set(folded.value)
  if (!next.delete(set)) next.add(set)
  folded.value = next
}
function choose(path: string, e: { shiftKey: boolean; ctrlKey: boolean; metaKey: boolean }) {
  const keys = { shift: e.shiftKey, ctrl: e.ctrlKey || e.metaKey }
  picked.value = pickedBy(shown.value, picked.value, project.selected, path, keys)
  if (!keys.shift) project.selected = path
}
/** The other end of what is extended by keys. */
let end: string | null = null
function keys(e: KeyboardEvent) {
  if ((e.ctrlKey || e.metaKey) && e.key === 'a') {
    e.preventDefault()
    picked.value = [...shown.value]
    return
  }
  if (e.key === 'Escape' && picked.value.length) {
    picked.value = []
    e.stopPropagation()
    return
  }
  if (e.key === 'Enter' && project.selected) {
    e.preventDefault()
    emit('open', project.selected)
    return
  }
  const last = shown.value.length - 1
  const from = shown.value.indexOf((e.shiftKey ? end : null) ?? project.selected ?? '')
  const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: columns.value, ArrowUp: -columns.value }[e.key]
  const to = e.key === 'Home' ? 0 : e.key === 'End' ? last : step ? from + step : null
  if (to === null || last < 0) return
  e.preventDefault()
  const path = shown.value[Math.min(last, Math.max(0, to))]
  if (e.shiftKey) {
    end = path
    picked.value = pickedBy(shown.value, [], project.selected, path, { shift: true, ctrl: false })
  } else {
    end = null
    picked.value = []
    project.selected = path
  }
  virtual.value.scrollToIndex(
    rows.value.findIndex((r) => r.kind === 'photos' && r.photos.some((p) => p.path === path)),
  )
}
function wheel(e: WheelEvent) {
  if (!e.ctrlKey) return
  e.preventDefault()
  size.value *= Math.exp(-e.deltaY * 0.002)
}
</script>

<template>
  <div class="whole">
    <div
      ref="host"
      class="sheet"
      :class="{ small }"
      tabindex="0"
      role="listbox"
      aria-multiselectable="true"
      :aria-label="t('layers.photos')"
      @keydown="keys"
      @wheel="wheel"
    >
      <div :style="{ height: `${virtual.getTotalSize()}px`, position: 'relative' }" role="presentation">
        <template v-for="r in virtual.getVirtualItems()" :key="r.index">
          <button
            v-if="rows[r.index]?.kind === 'heading'"
            class="heading"
            tabindex="-1"
            role="option"
            aria-selected="false"
            :aria-expanded="(rows[r.index] as Heading).open"
            :style="{ transform: `translateY(${r.start}px)` }"
            @click="fold((rows[r.index] as Heading).set)"
          >
            <span aria-hidden="true">{{ (rows[r.index] as Heading).open ? '▾' : '▸' }}</span>
            {{ say((rows[r.index] as Heading).set) || t('photos.noSet') }},
            {{ (rows[r.index] as Heading).count }}
          </button>
          <div
            v-else
            class="line"
            role="presentation"
            :style="{
              transform: `translateY(${r.start}px)`,
              height: `${tall}px`,
              gridTemplateColumns: `repeat(${columns}, 1fr)`,
            }"
          >
            <button
              v-for="p in (rows[r.index] as Line | undefined)?.photos ?? []"
              :key="p.path"
              class="ph"
              role="option"
              tabindex="-1"
              :aria-label="p.path"
              :aria-selected="p.path === project.selected || inside.has(p.path)"
              :class="{
                on: p.path === project.selected,
                picked: inside.has(p.path),
                out: !p.kept || p.problem,
              }"
              :title="p.problem ? `${p.path} ${say(p.problem)}` : p.path"
              @click="choose(p.path, $event)"
              @contextmenu.prevent="
                choose(p.path, { shiftKey: $event.shiftKey, ctrlKey: true, metaKey: false })
              "
              @dblclick="emit('open', p.path)"
            >
              <span class="pic">
                <img
                  v-if="!p.problem || p.width"
                  :src="photoUrl(project.id, 'thumb', p.path, size > 300 ? 640 : undefined)"
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
                ><span v-if="!small" dir="auto">{{ p.path.split('/').pop() }}</span
                ><b :title="say(p.judged?.says)"
                  ><i v-if="p.masked" :title="t('photos.masked')">▨</i> {{ markOf(p) }}</b
                ></span
              >
            </button>
          </div>
        </template>
      </div>
    </div>
    <label class="size"
      ><span>{{ t('photos.size') }}</span
      ><input v-model.number="size" type="range" :min="LEAST" :max="MOST" step="2"
    /></label>
  </div>
</template>

<style scoped>
.whole {
  display: grid;
  grid-template-rows: minmax(0, 1fr) auto;
  min-height: 0;
  min-width: 0;
  height: 100%;
  background: var(--stone);
}
.sheet {
  overflow: auto;
  padding: 8px;
}
.size {
  display: flex;
  justify-content: flex-end;
  align-items: center;
  gap: 8px;
  padding: 2px 12px;
  font-size: 12px;
  color: var(--ink2);
  border-top: 1px solid var(--joint);
}
.size input {
  width: 120px;
  height: 24px;
  accent-color: var(--lichen);
}
.heading {
  position: absolute;
  left: 0;
  right: 0;
  height: 26px;
  border: 0;
  border-bottom: 1px solid var(--joint);
  background: none;
  color: inherit;
  font: inherit;
  font-weight: 600;
  text-align: start;
  cursor: pointer;
}
.line {
  position: absolute;
  left: 0;
  right: 0;
  display: grid;
  gap: 8px;
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
.picked {
  background: var(--lichen-bg);
  border-color: var(--lichen);
}
.picked .pic::after {
  content: '✓';
  position: absolute;
  left: 5px;
  top: 5px;
  width: 18px;
  height: 18px;
  border-radius: 50%;
  background: var(--lichen);
  color: var(--paper);
  font-size: 12px;
  line-height: 18px;
}
.small .ph {
  position: relative;
}
.small .cap {
  position: absolute;
  right: 0;
  bottom: 0;
  width: auto;
  padding: 0 3px;
  background: color-mix(in srgb, var(--paper) 80%, transparent);
  font-size: 10px;
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
