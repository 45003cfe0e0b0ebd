<script setup lang="ts">
import FilmStrip from '@/components/FilmStrip.vue'
import PhotoPane from '@/components/PhotoPane.vue'
import { useProject } from '@/stores/project'

/** The photo that is thrown onto the mesh, and all that could be: those that are placed. */
defineProps<{ placed: string[] }>()
const project = useProject()
</script>

<template>
  <div class="thrown">
    <PhotoPane :path="project.selected" :caption="project.selected ?? ''" />
    <FilmStrip :only="placed" />
  </div>
</template>

<style scoped>
.thrown {
  display: grid;
  grid-template: minmax(0, 1fr) auto / minmax(0, 1fr);
  min-height: 0;
  min-width: 0;
}
</style>
