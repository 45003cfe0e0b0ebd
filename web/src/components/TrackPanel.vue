<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, photoUrl, type TrackOut } from '@/api/client'
import { fixed } from '@/i18n/numbers'
import { useProject } from '@/stores/project'

/** The track of a point: the place in all photos that are tied by it, each as a small piece of the photo. */
const props = defineProps<{ at: number[] | null }>()
const { t } = useI18n()
const project = useProject()
const track = shallowRef<TrackOut | null>(null)
/** Side of a piece on the screen, and of what it shows in parts of the photo's longer side. */
const SIDE = 112
const share = ref(1 / 12)
watch(
  () => props.at,
  async (at) => {
    if (!at) return
    const [x, y, z] = at
    const query = { params: { ...project.path.params, query: { x, y, z } } }
    const found = await ask(api.GET('/api/v1/projects/{project_id}/layers/cameras/track', query))
    if (at === props.at) track.value = found as TrackOut
  },
  { immediate: true },
)
/** Millimetres where the scale is known. */
const unit = computed(() => (project.metric ? 'mm' : 'unit'))
const pieces = computed(() =>
  (track.value?.seen ?? []).map((s) => {
    const k = SIDE / (share.value * Math.max(s.width, s.height))
    return {
      ...s,
      style: {
        backgroundImage: `url("${photoUrl(project.id, 'thumb', s.photo, 1600)}")`,
        backgroundSize: `${s.width * k}px ${s.height * k}px`,
        backgroundPosition: `${SIDE / 2 - s.x * k}px ${SIDE / 2 - s.y * k}px`,
      },
    }
  }),
)
</script>

<template>
  <div class="track" role="region" :aria-label="t('track.title')" tabindex="0">
    <p class="quiet">
      {{
        track
          ? t('track.told', {
              n: track.seen.length,
              sigma:
                track.sigma === null ? '' : t(`track.sigma_${unit}`, { n: fixed(track.sigma * 1000, 3) }),
            })
          : t('track.hint')
      }}
      <span class="seg"
        ><button v-for="k in [6, 12, 24]" :key="k" :aria-pressed="share === 1 / k" @click="share = 1 / k">
          {{ t('track.part', { k }) }}
        </button></span
      >
    </p>
    <ul>
      <li v-for="p in pieces" :key="p.photo">
        <button :class="{ on: p.photo === project.selected }" @click="project.selected = p.photo">
          <span class="piece" :style="p.style"><i></i></span>
          <span class="num">{{ p.photo }} · {{ fixed(p.error, 2) }} px</span>
        </button>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.track {
  height: 190px;
  padding: 6px 12px;
  background: var(--paper);
  border-top: 1px solid var(--joint);
  overflow: auto;
}
p {
  margin: 0 0 6px;
  font-size: 13px;
}
ul {
  list-style: none;
  display: flex;
  gap: 8px;
  margin: 0;
  padding: 0;
}
li button {
  border: 1px solid var(--joint);
  border-radius: 4px;
  background: none;
  padding: 2px;
  color: inherit;
  font-size: 11.5px;
  cursor: pointer;
}
li button.on {
  border-color: var(--lichen);
  outline: 1px solid var(--lichen);
}
.piece {
  position: relative;
  display: block;
  width: 112px;
  height: 112px;
  background-color: var(--surround);
  background-repeat: no-repeat;
}
.piece i {
  position: absolute;
  left: 46px;
  top: 46px;
  width: 20px;
  height: 20px;
  border: 1.5px solid #6ff0e0;
  border-radius: 50%;
  box-shadow: 0 0 0 1px #06312f;
}
</style>
