<script setup lang="ts">
import { ElConfigProvider } from 'element-plus'
import german from 'element-plus/es/locale/lang/de'
import english from 'element-plus/es/locale/lang/en'
import { useEventListener } from '@vueuse/core'
import { defineAsyncComponent, onMounted, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { api } from './api/client'
import type { Language } from './i18n/languages'
import { useJobs } from './stores/jobs'
import { tellWhenHidden } from './composables/useNotices'
import { useBounds } from './composables/useBounds'
import { useTheme } from './composables/useTheme'

const SignInView = defineAsyncComponent(() => import('./views/SignInView.vue'))
/** What the components of Element Plus say by themselves. */
const ELEMENTS: Record<Language, typeof english> = { en: english, de: german }
useTheme()
const { locale } = useI18n<[], Language>({ useScope: 'global' })
const jobs = useJobs()
tellWhenHidden()
useBounds()
/** From another machine somebody has to say who they are first. */
const outside = ref(false)
onMounted(async () => {
  const session = await api.GET('/api/v1/session').catch(() => null)
  outside.value = session?.data?.role === null
  if (!outside.value) jobs.listen()
})
useEventListener(document, 'vq-door', () => (outside.value = true))
</script>

<template>
  <el-config-provider :locale="ELEMENTS[locale]">
    <SignInView v-if="outside" />
    <router-view v-else />
  </el-config-provider>
</template>
