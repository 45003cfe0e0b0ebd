<script setup lang="ts">
import { useLocalStorage } from '@vueuse/core'
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, ask, type Project } from '@/api/client'
import JobLine from '@/components/JobLine.vue'
import ProjectSlab from '@/components/ProjectSlab.vue'
import { benchOf, listed, ORDERS, type Order } from '@/lib/projects'
import LanguageSelect from '@/components/LanguageSelect.vue'
import { useTheme } from '@/composables/useTheme'
import { useJobs } from '@/stores/jobs'

const { t } = useI18n()
const router = useRouter()
const { dusk } = useTheme()
const jobs = useJobs()
const projects = ref<Project[]>([])
const name = ref('')
const loaded = ref(false)

async function refresh() {
  projects.value = await ask(api.GET('/api/v1/projects'))
  loaded.value = true
}
onMounted(refresh)
/** Where the projects are on this machine. */
const folder = ref('')
onMounted(async () => (folder.value = (await ask(api.GET('/api/v1/health'))).folder))
watch(() => jobs.ended, refresh)

async function add() {
  const made = await ask(api.POST('/api/v1/projects', { body: { name: name.value.trim() || null } }))
  await router.push(`/projects/${made.id}/start`)
}

const words = ref('')
const order = useLocalStorage<Order>('projects-order', 'newest')
const shown = computed(() => listed(projects.value, words.value, order.value))
const open = (p: Project) => router.push(`/projects/${p.id}/${benchOf(p)}`)
</script>

<template>
  <div class="page">
    <header>
      <h1>{{ t('app.name') }}</h1>
      <span class="quiet">{{ t('projects.title') }}</span>
      <form class="add" @submit.prevent="add">
        <el-input
          v-model="name"
          :placeholder="t('projects.name')"
          :aria-label="t('projects.name')"
          maxlength="120"
        />
        <el-button native-type="submit" type="primary">{{ t('projects.add') }}</el-button>
      </form>
      <LanguageSelect />
      <button class="plainbtn" @click="dusk = !dusk">{{ dusk ? t('app.day') : t('app.dusk') }}</button>
    </header>
    <div v-if="projects.length > 1" class="find" role="search">
      <el-input
        v-model="words"
        clearable
        :placeholder="t('projects.find')"
        :aria-label="t('projects.find')"
      />
      <span class="seg" role="group" :aria-label="t('projects.order')"
        ><button v-for="o in ORDERS" :key="o" :aria-pressed="order === o" @click="order = o">
          {{ t(`projects.by.${o}`) }}
        </button></span
      >
    </div>
    <main>
      <p v-if="loaded && !projects.length" class="emptynote">{{ t('projects.empty') }}</p>
      <p v-else-if="loaded && !shown.length" class="emptynote">
        {{ t('projects.noneFound', { words }) }}
      </p>
      <ProjectSlab v-for="p in shown" :key="p.id" :project="p" @open="open(p)" @changed="refresh" />
      <p v-if="folder && loaded" class="quiet kept">{{ t('projects.kept', { folder }) }}</p>
    </main>
    <JobLine />
  </div>
</template>

<style scoped>
.page {
  height: 100%;
  display: grid;
  grid-template-rows: auto auto minmax(0, 1fr) 32px;
  background: linear-gradient(var(--paper), var(--stone));
}
header {
  grid-row: 1;
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 8px 14px;
  padding: 18px 26px;
  border-bottom: 1px solid var(--joint);
  background: var(--paper);
}
h1 {
  font-size: 20px;
  letter-spacing: 0.01em;
}
.kept {
  grid-column: 1 / -1;
  font-size: 12.5px;
  overflow-wrap: anywhere;
}
.find {
  grid-row: 2;
  display: flex;
  gap: 14px;
  padding: 14px 26px 0;
}
.find > :first-child {
  width: 280px;
}
.add {
  margin-left: auto;
  display: flex;
  gap: 8px;
  width: 400px;
}
main {
  grid-row: 3;
  overflow: auto;
  padding: 24px 26px;
  display: grid;
  gap: 14px;
  grid-template-columns: repeat(auto-fill, minmax(min(420px, 100%), 1fr));
  grid-auto-rows: max-content;
  align-content: start;
}
</style>
