<script setup lang="ts">
import { useI18n } from 'vue-i18n'
import type { Photo } from '@/api/client'
import { fixed } from '@/i18n/numbers'
import { say } from '@/i18n/say'

/** What is known of one photo, in a few lines. */
defineProps<{ photo: Photo }>()
const { t } = useI18n()
/** Degrees round the subject from its front. */
const turnOf = (at: number[]) => Math.round(((Math.atan2(at[0], -at[1]) * 180) / Math.PI + 360) % 360)
</script>

<template>
  <div class="facts num">
    <p v-if="photo.problem" class="bad">{{ photo.path }} {{ say(photo.problem) }}</p>
    <p v-if="photo.judged?.says.text" class="says">
      {{ t(`judge.${photo.judged.proposal}`) }}: {{ say(photo.judged.says) }}
    </p>
    <p v-if="!photo.problem">
      {{ photo.width }} × {{ photo.height }} · {{ photo.camera }} · {{ photo.exposure }}<br />
      {{ t('photos.focal', { px: fixed(photo.focal_px, 0), source: say(photo.focal_source) }) }}
      <template v-if="photo.planned"
        ><br />{{
          t('photos.planned', {
            turn: turnOf(photo.planned),
            height: fixed(photo.planned[2], 2),
            away: fixed(Math.hypot(photo.planned[0], photo.planned[1]), 2),
          })
        }}</template
      >
      <template v-if="photo.judged?.set"
        ><br />{{
          t('judge.figures', {
            set: say(photo.set),
            px: fixed(photo.judged.sharpness_px, 1),
            ev: fixed(photo.judged.ev_offset, 2),
            dark: fixed(photo.judged.too_dark_percent, 0),
          })
        }}</template
      >
    </p>
  </div>
</template>

<style scoped>
.says {
  color: var(--ochre);
  font-weight: 600;
}
.facts {
  padding: 8px 12px;
  border-top: 1px solid var(--joint);
  background: var(--stone);
  font-size: 13px;
}
.bad {
  color: var(--rust);
}
</style>
