<script setup lang="ts">
import { ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type LensMap } from '@/api/client'
import { fixed } from '@/i18n/numbers'
import { useProject } from '@/stores/project'

/** Each lens: what was solved against what the photos say, where on the frame features miss their points, how it bends. */
const props = defineProps<{ number: number }>()
const { t } = useI18n()
const project = useProject()
const maps = shallowRef<LensMap[]>([])
const ENLARGED = 200
const wide = ref(220)

watch(
  () => props.number,
  async (number) => {
    maps.value = (await ask(
      api.GET('/api/v1/projects/{project_id}/layers/cameras/lenses', {
        params: { ...project.path.params, query: { number } },
      }),
    )) as LensMap[]
  },
  { immediate: true },
)
const other = (m: LensMap) => (m.said ? 100 * (m.focal / m.said - 1) : null)
/** The curve of distortion in a box of 200 x 100, its largest value at the rim. */
function curve(m: LensMap) {
  const far = m.curve[m.curve.length - 1][0]
  const most = Math.max(1e-6, ...m.curve.map((c) => Math.abs(c[1])))
  return m.curve.map((c) => `${(200 * c[0]) / far},${50 - (45 * c[1]) / most}`).join(' ')
}
const most = (m: LensMap) => m.curve.reduce((a, b) => (Math.abs(b[1]) > Math.abs(a[1]) ? b : a))
</script>

<template>
  <div class="lenses" role="region" tabindex="0" :aria-label="t('lens.title')">
    <article v-for="(m, k) in maps" :key="k">
      <p class="num">
        <b>{{ t('lens.photos', { n: m.photos, size: `${m.width} × ${m.height}` }) }}</b><br />
        {{ t('lens.focal', { px: fixed(m.focal, 1) }) }}
        <template v-if="other(m) !== null">{{
          t('lens.said', { percent: fixed(other(m)!, 1) })
        }}</template><br />
        <span class="quiet">{{
          t('lens.bends', {
            px: fixed(Math.abs(most(m)[1]), 1),
            way: most(m)[1] < 0 ? 'in' : 'out',
            at: fixed(most(m)[0], 0),
          })
        }}</span>
      </p>
      <figure>
        <svg :viewBox="`0 0 ${m.width} ${m.height}`" :style="{ width: `${wide}px` }" role="img">
          <title>{{ t('lens.map', { n: ENLARGED }) }}</title>
          <rect :width="m.width" :height="m.height" class="frame" />
          <line
            v-for="(c, i) in m.cells"
            :key="i"
            :x1="c.x"
            :y1="c.y"
            :x2="c.x + ENLARGED * c.dx"
            :y2="c.y + ENLARGED * c.dy"
            :class="{ few: c.count < 10 }"
          />
          <circle v-for="(c, i) in m.cells" :key="`c${i}`" :cx="c.x" :cy="c.y" :r="m.width / 220" />
        </svg>
        <figcaption class="quiet">{{ t('lens.map', { n: ENLARGED }) }}</figcaption>
      </figure>
      <figure>
        <svg viewBox="0 0 200 100" :style="{ width: `${wide}px` }" role="img">
          <title>{{ t('lens.curve') }}</title>
          <rect width="200" height="100" class="frame" />
          <line x1="0" y1="50" x2="200" y2="50" class="zero" />
          <polyline :points="curve(m)" class="curve" />
        </svg>
        <figcaption class="quiet">{{ t('lens.curve') }}</figcaption>
      </figure>
    </article>
  </div>
</template>

<style scoped>
.lenses {
  height: 190px;
  overflow: auto;
  background: var(--paper);
  border-top: 1px solid var(--joint);
}
article {
  display: flex;
  gap: 18px;
  padding: 8px 12px;
  align-items: flex-start;
}
article p {
  flex: 1;
  font-size: 13px;
  line-height: 1.6;
}
figure {
  margin: 0;
}
figcaption {
  font-size: 12px;
}
svg {
  display: block;
  max-height: 150px;
}
.frame {
  fill: var(--stone);
  stroke: var(--joint);
  vector-effect: non-scaling-stroke;
}
line {
  stroke: var(--ochre);
  stroke-width: 1.5;
  vector-effect: non-scaling-stroke;
}
line.few {
  opacity: 0.4;
}
line.zero {
  stroke: var(--joint);
}
circle {
  fill: var(--lichen);
}
.curve {
  fill: none;
  stroke: var(--lichen);
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
</style>
