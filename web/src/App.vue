<script setup lang="ts">
import { ElConfigProvider } from 'element-plus'
import german from 'element-plus/es/locale/lang/de'
import english from 'element-plus/es/locale/lang/en'
import { onMounted } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Language } from './i18n/languages'
import { useJobs } from './stores/jobs'
import { tellWhenHidden } from './composables/useNotices'
import { useBounds } from './composables/useBounds'
import { useTheme } from './composables/useTheme'

/** What the components of Element Plus say by themselves. */
const ELEMENTS: Record<Language, typeof english> = { en: english, de: german }
useTheme()
const { locale } = useI18n<[], Language>({ useScope: 'global' })
const jobs = useJobs()
tellWhenHidden()
useBounds()
onMounted(() => jobs.listen())
</script>

<template>
  <el-config-provider :locale="ELEMENTS[locale]">
    <router-view />
  </el-config-provider>
</template>
