<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import SettingRow from '@/components/SettingRow.vue'
import VersionList from '@/components/VersionList.vue'
import { seconds } from '@/lib/format'
import { useJobs } from '@/stores/jobs'
import { useProject } from '@/stores/project'
import { say, type Sentence } from '@/i18n/say'
import { masksHelp, placeOf } from '@/lib/remedies'
import { byArrows } from '@/lib/roving'

const props = defineProps<{ layer: string; compared: number | null }>()
const emit = defineEmits<{ compare: [number: number | null]; go: [layer: string] }>()
const { t } = useI18n()
const project = useProject()
const jobs = useJobs()
const more = ref(false)
const GRADES = ['rough', 'dressed', 'polished'] as const

const layer = computed(() => project.layer(props.layer))
const version = computed(() => project.version(props.layer))
const working = computed(() => jobs.active.some((j) => j.project_id === project.id))
const settings = computed(() => layer.value?.settings ?? [])
const shown = computed(() => (more.value ? settings.value : settings.value.filter((s) => s.main)))
const findings = computed(() => {
  const failed = jobs.jobs.find((j) => j.project_id === project.id)
  const last = failed?.state === 'failed' && failed.message.text ? [failed.message] : []
  return [
    ...last.map((s) => ({ said: s, bad: true })),
    ...(version.value?.findings ?? []).map((s) => ({ said: s, bad: false })),
  ]
})
/** The other layer where a finding's advice is followed. */
const goes = (said: Sentence) => {
  const place = placeOf(said)
  return place === props.layer ? null : place
}
/** Let masks be suggested, and run up to here with them. */
async function withMasks() {
  await project.change('masks', { way: 'suggest' })
  await project.run(props.layer === 'masks' ? 'cameras' : props.layer, true)
}
/** The versions that a run takes, as layers are called. */
const used = computed(() =>
  (layer.value?.takes ?? []).map((v) => v.replace(/^\w+/, (name) => t(`layers.${name}`))).join(', '),
)
/** What the button does: which layers it makes, or of what versions it makes this one. */
const does = computed(() => {
  const runs = layer.value?.runs ?? []
  if (runs.length > 1) return t('tray.runs', { layers: runs.map((name) => t(`layers.${name}`)).join(', ') })
  return layer.value?.takes.length ? t('tray.takes', { versions: used.value }) : ''
})
/** Finish has its own button: keep the draft. */
const computes = computed(() => props.layer !== 'finish')
</script>

<template>
  <div v-if="layer" class="tray">
    <div v-if="computes" class="grades" role="radiogroup" :aria-label="t('tray.grade')" @keydown="byArrows">
      <button
        v-for="g in GRADES"
        :key="g"
        class="g"
        :class="[g, { on: project.project?.grade === g }]"
        role="radio"
        :tabindex="project.project?.grade === g ? 0 : -1"
        :aria-checked="project.project?.grade === g"
        @click="project.setGrade(g)"
      >
        {{ t(`grade.${g}`) }}<small>{{ t(`grade.${g}Hint`) }}</small>
      </button>
    </div>
    <SettingRow
      v-for="s in shown"
      :key="s.name"
      :setting="s"
      @change="project.change(props.layer, { [s.name]: $event })"
      @reset="project.reset(props.layer, s.name)"
    />
    <button v-if="settings.some((s) => !s.main)" class="link" :aria-expanded="more" @click="more = !more">
      {{ t(more ? 'tray.fewer' : 'tray.more') }}
    </button>
    <div v-if="computes" class="both">
      <button class="go" :disabled="working || !project.photos.length" @click="project.run(props.layer)">
        <b>{{
          working
            ? t('tray.computing')
            : project.photos.length
              ? layer.layer === 'photos'
                ? t('tray.check')
                : t('tray.run', { layer: t(`layers.${layer.layer}`) })
              : t('tray.noPhotos')
        }}</b>
        <span v-if="does">{{ does }}</span>
      </button>
      <button
        class="go all"
        :disabled="working || !project.photos.length"
        :title="t('tray.upToHint')"
        @click="project.run(props.layer, true)"
      >
        {{ t('tray.upTo') }}
      </button>
    </div>
    <p v-if="version" class="took quiet num">{{ t('tray.took', { time: seconds(version.seconds) }) }}</p>
    <section class="find">
      <VersionList
        v-if="layer.versions.length"
        :layer="props.layer"
        :compared="props.compared"
        @compare="emit('compare', $event)"
      />
      <h2>{{ t('tray.findings') }}</h2>
      <p v-if="!findings.length" class="quiet pad">{{ t(version ? 'tray.none' : 'tray.notYet') }}</p>
      <div v-for="(f, k) in findings" :key="k" class="card" :class="{ bad: f.bad }">
        {{ say(f.said) }}
        <button v-if="goes(f.said)" class="link" @click="emit('go', goes(f.said)!)">
          {{ t('tray.go', { layer: t(`layers.${goes(f.said)}`) }) }}
        </button>
        <button v-if="masksHelp(f.said)" class="link" @click="withMasks">{{ t('tray.withMasks') }}</button>
      </div>
    </section>
  </div>
</template>

<style scoped>
.tray {
  display: flex;
  flex-direction: column;
  min-height: 0;
  height: 100%;
}
.grades {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 7px;
  padding: 12px 14px 8px;
}
@media (max-width: 900px) {
  .grades {
    gap: 4px;
    padding-inline: 8px;
  }
  .grades .g {
    padding-inline: 5px;
    font-size: 13px;
  }
}
.g {
  border: 1px solid var(--joint);
  border-radius: 6px;
  padding: 24px 8px 5px;
  position: relative;
  overflow: hidden;
  font-weight: 600;
  background: var(--paper);
  text-align: left;
  cursor: pointer;
}
.g small {
  display: block;
  font-weight: 400;
  color: var(--ink2);
  font-size: 11.5px;
  white-space: nowrap;
}
.g::before {
  content: '';
  position: absolute;
  inset: 0 0 auto 0;
  height: 18px;
  border-bottom: 1px solid var(--joint);
}
.rough::before {
  background: repeating-linear-gradient(62deg, #c9b893 0 4px, #d9caa8 4px 7px, #bfae88 7px 9px);
}
.dressed::before {
  background: repeating-linear-gradient(90deg, #d8ccb2 0 7px, #cdbf9f 7px 8px);
}
.polished::before {
  background: linear-gradient(100deg, #d6cbb3, #efe8d9 45%, #cfc3a8);
}
.g.on {
  border-color: var(--lichen);
  box-shadow: 0 0 0 1px var(--lichen);
}
.link {
  border: 0;
  background: none;
  color: var(--lichen-ink);
  font-weight: 600;
  cursor: pointer;
  text-align: left;
  padding: 3px 14px;
}
.both {
  margin: 8px 14px 4px;
  display: grid;
  grid-template-columns: 1fr 84px;
  gap: 2px;
}
.go {
  padding: 9px 12px;
  border-radius: 6px 0 0 6px;
}
.go.all {
  border-radius: 0 6px 6px 0;
  padding: 4px 8px;
  font-size: 12px;
  line-height: 1.2;
}
.took {
  padding: 0 14px 6px;
  font-size: 12.5px;
}
.find {
  border-top: 1px solid var(--joint);
  background: var(--stone);
  flex: 1;
  overflow: auto;
  padding-bottom: 10px;
}
.find h2 {
  font-size: 12.5px;
  padding: 10px 14px 4px;
}
.pad {
  padding: 0 14px;
}
.card {
  margin: 6px 12px;
  padding: 8px 11px;
  background: var(--paper);
  border-radius: 6px;
  border-left: 3px solid var(--ochre);
  font-size: 13px;
  overflow-wrap: anywhere;
}
.card.bad {
  border-color: var(--rust);
}
</style>
