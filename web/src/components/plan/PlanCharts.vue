<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Patches, PlanOut } from '@/api/client'
import { metres } from '@/lib/format'
import { thinPatches } from '@/lib/paint'
import { ramp } from '@/world/build'
import { fixed } from '@/i18n/numbers'

/** Where it is sharp against where the subject is, and how much of the surface so many photos see. */
const props = defineProps<{ plan: PlanOut; reach: number; patches: Patches }>()
const emit = defineEmits<{ look: [at: [number, number, number]] }>()
const { t } = useI18n()
const W = 270

const ruler = computed(() => {
  const p = props.plan
  const [near, far] = [p.distance - props.reach, p.distance + props.reach]
  const low = Math.max(0, Math.min(p.near, near) - 0.15 * p.distance)
  const high = Math.min(Math.max(Math.min(p.far, 2 * p.distance), far) + 0.15 * p.distance, 3 * p.distance)
  const x = (d: number) => 8 + ((Math.min(Math.max(d, low), high) - low) / (high - low)) * (W - 16)
  const step = 10 ** Math.floor(Math.log10((high - low) / 2))
  const ticks = []
  for (let d = Math.ceil((low + 0.06 * (high - low)) / step) * step; d <= high; d += step)
    ticks.push({ x: x(d), d })
  const sparse = Math.ceil(ticks.length / 4)
  return {
    sharp: [x(p.near), x(p.far)],
    subject: [x(near), x(far)],
    ticks: ticks.map((k, i) => ({ ...k, text: i % sparse ? '' : metres(k.d) })),
  }
})
const bars = computed(() => {
  const all = props.plan.histogram
  const last = Math.max(
    12,
    all.findLastIndex((x) => x > 0.0005),
  )
  const shown = all.slice(0, last + 1)
  const top = Math.max(...shown, 1e-9)
  const w = (W - 16) / shown.length
  const label = (n: number) => (n === all.length - 1 ? `${n}+` : String(n))
  return shown.map((share, n) => ({
    x: 8 + n * w,
    w: Math.max(1, w - 1.5),
    h: Math.max(share > 0.0002 ? 1.5 : 0, (52 * share) / top),
    fill:
      n < 3
        ? '#a63d2f'
        : `rgb(${ramp((n - 2) / (last - 2))
            .map(Math.round)
            .join(' ')})`,
    n,
    text: n % Math.ceil(shown.length / 13) ? '' : label(n),
    title: `${label(n)}: ${fixed(100 * share, 1)} %`,
  }))
})
const thin = computed(() => thinPatches(props.patches))
const few = computed(() => 100 * (1 - props.plan.seen_by_three))
</script>

<template>
  <div class="charts num">
    <p>{{ t('plan.sharpFrom', { near: metres(plan.near), far: metres(plan.far) }) }}</p>
    <svg :viewBox="`0 0 ${W} 40`" role="img" :aria-label="t('plan.sharpFrom', { near: '', far: '' })">
      <rect
        :x="ruler.sharp[0]"
        y="3"
        :width="Math.max(1, ruler.sharp[1] - ruler.sharp[0])"
        height="13"
        class="sharp"
      />
      <rect
        :x="ruler.subject[0]"
        y="7"
        :width="Math.max(2, ruler.subject[1] - ruler.subject[0])"
        height="5"
        class="subject"
      />
      <line x1="8" :x2="W - 8" y1="23" y2="23" class="axis" />
      <g v-for="k in ruler.ticks" :key="k.d">
        <line :x1="k.x" :x2="k.x" y1="20" y2="23" class="axis" />
        <text :x="k.x" y="35">{{ k.text }}</text>
      </g>
    </svg>
    <p>
      <span class="key sharp"></span>{{ t('plan.sharpKey') }} <span class="key subject"></span
      >{{ t('plan.subjectKey') }}
    </p>
    <p class="gap">
      {{ t('plan.byPhotos') }} ·
      <b :class="{ bad: few > 1 }">{{ t('plan.underThree', { n: fixed(few, few < 10 ? 1 : 0) }) }}</b>
    </p>
    <svg :viewBox="`0 0 ${W} 68`" role="img" :aria-label="t('plan.byPhotos')">
      <g v-for="b in bars" :key="b.n">
        <title>{{ b.title }}</title>
        <rect :x="b.x" :y="54 - b.h" :width="b.w" :height="b.h" :fill="b.fill" />
        <text :x="b.x + b.w / 2" y="65">{{ b.text }}</text>
      </g>
    </svg>
    <details v-if="thin.length" class="thin">
      <summary>{{ t('plan.thin', { n: thin.length }) }}</summary>
      <ul>
        <li v-for="f in thin" :key="f.patch">
          <button @click="emit('look', f.at)">
            {{ t('plan.thinAt', { side: t(`world.${f.side}`), height: metres(f.at[2]), n: f.photos }) }}
          </button>
        </li>
      </ul>
    </details>
  </div>
</template>

<style scoped>
.charts {
  background: var(--stone);
  border-top: 1px solid var(--joint);
  padding: 8px 12px;
  font-size: 12.5px;
  color: var(--ink2);
}
svg {
  width: 100%;
  display: block;
}
text {
  font-size: 9.5px;
  text-anchor: middle;
  fill: var(--ink2);
}
.axis {
  stroke: var(--ink2);
  stroke-width: 0.8;
}
.sharp {
  fill: var(--lichen-bg);
  stroke: var(--lichen);
}
.subject {
  fill: var(--ochre);
}
.key {
  display: inline-block;
  width: 14px;
  height: 8px;
  margin: 0 5px 0 8px;
}
.key.sharp {
  background: var(--lichen-bg);
  border: 1px solid var(--lichen);
}
.key.subject {
  background: var(--ochre);
}
.thin summary {
  cursor: pointer;
  font-weight: 600;
}
.thin ul {
  margin: 0;
  padding: 0;
  list-style: none;
  max-height: 92px;
  overflow: auto;
}
.thin button {
  border: 0;
  background: none;
  font: inherit;
  color: var(--lichen-ink);
  cursor: pointer;
  padding: 1px 0;
}
.gap {
  margin-top: 8px;
}
.bad {
  color: var(--rust);
}
</style>
