<script setup lang="ts">
import { onMounted } from 'vue'
import { useJobs } from './stores/jobs'
import { useTheme } from './composables/useTheme'

useTheme()
const jobs = useJobs()
onMounted(() => jobs.listen())
</script>

<template>
  <router-view />
</template>
