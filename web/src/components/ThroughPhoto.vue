<script setup lang="ts">
import { onBeforeUnmount, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import type { CameraOut } from '@/api/client'
import { useKeys } from '@/composables/useKeys'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'

/** The photo laid over what its camera sees of the points, to be blended from one to the other. */
const props = defineProps<{ world: World; camera: CameraOut }>()
const emit = defineEmits<{ close: [] }>()
const { t } = useI18n()
const project = useProject()
const blend = ref(50)
watch(
  () => props.camera,
  (c) => props.world.through(c),
  { immediate: true },
)
onBeforeUnmount(() => props.world.through(null))
useKeys('through.title', [{ keys: 'Escape', says: 'keys.close', act: () => emit('close') }])
</script>

<template>
  <img
    class="through"
    :src="`/api/v1/projects/${project.id}/layers/cameras/through?row=${camera.row}`"
    :alt="camera.photo"
    :style="{ opacity: blend / 100 }"
  />
  <label class="blend over-world">
    {{ t('through.points') }}
    <input v-model.number="blend" type="range" min="0" max="100" :aria-label="t('through.blend')" />
    {{ t('through.photo') }}
    <button class="plainbtn" @click="emit('close')">{{ t('through.close') }}</button>
  </label>
</template>

<style scoped>
.through {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  object-fit: contain;
  pointer-events: none;
}
.blend {
  right: auto;
  display: flex;
  gap: 8px;
  align-items: center;
  font-size: 13px;
}
.blend input {
  accent-color: var(--lichen);
}
</style>
