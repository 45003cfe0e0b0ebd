<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Version } from '@/api/client'
import { count } from '@/lib/format'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import { say } from '@/i18n/say'

const props = defineProps<{ open: string }>()
const emit = defineEmits<{ pick: [layer: string] }>()
const { t } = useI18n()
const project = useProject()
const jobs = useJobs()
const NAMES = ['plan', 'photos', 'masks', 'cameras', 'points', 'surface', 'texture', 'finish', 'dispatch']

function figure(name: string): string {
  const version: Version | null = project.version(name)
  // what is made without them needs neither a plan nor to be finished
  const textured = !!project.version('texture')
  if (name === 'plan')
    return project.planned
      ? t('figure.plan', { n: project.planned })
      : t(textured ? 'state.optional' : 'state.empty')
  if (name === 'finish' && !version && textured) return t('state.optional')
  if (name === 'photos') {
    const all = project.photos.length
    const kept = project.photos.filter((p) => p.kept && !p.problem).length
    return all ? t('figure.photos', { kept, out: all - kept }) : t('state.empty')
  }
  if (name === 'dispatch') return project.version('texture') ? t('figure.dispatch') : t('figure.nodispatch')
  switch (version?.layer) {
    case 'masks':
      return version.figures.masked ? t('figure.masks', { n: version.figures.masked }) : t('figure.nomasks')
    case 'cameras': {
      const { placed = 0, weak = 0, photos = 0 } = version.figures
      return t('figure.cameras', { placed: placed + weak, all: photos })
    }
    case 'points':
      return t('figure.points', { n: count(version.figures.points ?? 0) })
    case 'texture':
      return t('figure.texture', { size: String(version.figures.atlas ?? '') })
    case 'surface':
    case 'finish':
      return t(`figure.${name}`, { n: count(version.figures.triangles ?? 0) })
    default:
      return t('state.empty')
  }
}

const beds = computed(() =>
  NAMES.map((name, k) => {
    const job = jobs.active.find(
      (j) => j.project_id === project.id && j.state === 'running' && j.layer === name,
    )
    const share = job && job.total ? job.done / job.total : 0
    const stale = project.layer(name)?.state === 'out of date'
    const state = job ? 'running' : stale ? 'stale' : 'ready'
    return {
      name,
      key: k + 1,
      share,
      state,
      findings: job ? 0 : (project.version(name)?.findings.length ?? 0),
      text: job ? say(job.stage) || t('state.running') : figure(name),
      tone: 92 - 2.6 * k,
    }
  }),
)
const joint = (k: number) => {
  const y = (x: number) => 4 + 2.2 * Math.sin(x * 1.7 + k * 2.1) + 1.4 * Math.sin(x * 4.3 + k)
  return (
    'M0 8 ' + Array.from({ length: 23 }, (_, i) => `L${i * 10} ${y(i).toFixed(1)}`).join(' ') + ' L220 8 Z'
  )
}
</script>

<template>
  <nav class="beds" :aria-label="project.project?.name">
    <button
      v-for="b in beds"
      :key="b.name"
      class="bed"
      :class="[b.state, { on: b.name === props.open }]"
      :style="{ '--tone': `${b.tone}%`, '--share': `${100 * b.share}%` }"
      :aria-current="b.name === props.open ? 'page' : undefined"
      @click="emit('pick', b.name)"
    >
      <svg viewBox="0 0 220 8" preserveAspectRatio="none" aria-hidden="true"><path :d="joint(b.key)" /></svg>
      <span class="n">{{ t(`layers.${b.name}`) }}</span>
      <kbd>{{ b.key }}</kbd>
      <span
        v-if="b.findings"
        class="mark num"
        role="img"
        :aria-label="t('state.findings', { n: b.findings })"
        :title="t('state.findings', { n: b.findings })"
        >{{ b.findings }}</span
      >
      <span class="f num"
        ><em v-if="b.state === 'stale'">{{ t('state.stale') }} · </em>{{ b.text }}</span
      >
    </button>
  </nav>
</template>

<style scoped>
.beds {
  display: flex;
  flex-direction: column;
  flex: 1;
  min-height: 0;
}
.bed {
  position: relative;
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template: auto auto / 1fr auto;
  align-content: center;
  text-align: left;
  padding: 6px 12px 4px 16px;
  border: 0;
  cursor: pointer;
  background: hsl(39 34% var(--tone));
}
:global(.dark .beds .bed) {
  background: hsl(39 8% calc(var(--tone) * 0.24));
}
.bed svg {
  position: absolute;
  left: 0;
  right: 0;
  top: -7px;
  width: 100%;
  height: 8px;
  pointer-events: none;
  z-index: 1;
}
.bed svg path {
  fill: hsl(39 34% var(--tone));
  stroke: var(--joint);
  stroke-width: 1;
  vector-effect: non-scaling-stroke;
}
:global(.dark .beds .bed svg path) {
  fill: hsl(39 8% calc(var(--tone) * 0.24));
}
.n {
  font-weight: 600;
  font-size: 14px;
}
.f {
  font-size: 12.5px;
  color: var(--ink2);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
:global(.beds .bed .f) {
  color: #4d4638;
}
:global(.dark .beds .bed .f) {
  color: var(--ink2);
}
.f em {
  font-style: normal;
  color: #7a4a06;
  font-weight: 600;
}
:global(.dark .beds .f em) {
  color: var(--ochre);
}
kbd {
  color: inherit;
  grid-row: 1 / 3;
  grid-column: 2;
  align-self: center;
  font: inherit;
  font-size: 11px;
  border: 1px solid #0003;
  border-radius: 3px;
  padding: 0 5px;
  opacity: 0.7;
}
.mark {
  position: absolute;
  top: 50%;
  right: 42px;
  transform: translateY(-50%);
  min-width: 18px;
  padding: 0 5px;
  border-radius: 9px;
  border: 1px solid #7a4a06;
  color: #7a4a06;
  background: var(--paper);
  font-size: 11px;
  font-weight: 700;
  line-height: 16px;
  text-align: center;
}
:global(.dark .beds .mark) {
  color: var(--ochre);
  border-color: var(--ochre);
}
.on {
  background: var(--paper) !important;
  box-shadow: inset 4px 0 0 var(--lichen);
}
.on svg path {
  fill: var(--paper) !important;
}
.running::after {
  content: '';
  position: absolute;
  inset: 0 auto 0 0;
  width: var(--share);
  background: repeating-linear-gradient(115deg, #b9812a30 0 3px, transparent 3px 8px);
  pointer-events: none;
  transition: width 0.3s;
}
/* in a small window the layers stand side by side */
@media (max-width: 720px) {
  .beds {
    flex-direction: row;
    overflow-x: auto;
  }
  .bed {
    flex: 0 0 124px;
    padding: 6px 8px;
  }
  .bed svg {
    display: none;
  }
}
</style>
