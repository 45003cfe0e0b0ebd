<script setup lang="ts">
import ProjectFrame from '@/components/ProjectFrame.vue'

defineProps<{ id: string; layer?: string }>()
</script>

<template>
  <!-- another project is another page: nothing of one is left in the other -->
  <ProjectFrame :id="id" :key="id" :layer="layer" />
</template>
