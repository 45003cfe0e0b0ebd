<script setup lang="ts">
import { ElButton, ElInput, ElMessageBox } from 'element-plus'
import { onMounted, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useRouter } from 'vue-router'
import { api, ask, photoUrl, type Project } from '@/api/client'
import JobLine from '@/components/JobLine.vue'
import { bytes } from '@/lib/format'
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
  projects.value = await ask(api.GET('/api/projects'))
  loaded.value = true
}
onMounted(refresh)
watch(() => jobs.ended, refresh)

async function add() {
  const made = await ask(api.POST('/api/projects', { body: { name: name.value.trim() || null } }))
  await router.push(`/projects/${made.id}/plan`)
}

async function remove(p: Project) {
  try {
    await ElMessageBox.confirm(t('projects.removeAsk', { name: p.name, size: bytes(p.bytes) }), {
      type: 'warning',
    })
  } catch {
    return
  }
  try {
    await ask(api.DELETE('/api/projects/{project_id}', { params: { path: { project_id: p.id } } }), true)
  } finally {
    await refresh()
  }
}

async function free(p: Project) {
  await ask(api.DELETE('/api/projects/{project_id}/cache', { params: { path: { project_id: p.id } } }))
  await refresh()
}

const open = (p: Project) =>
  router.push(`/projects/${p.id}/${p.best_layer ? bestBench(p.best_layer) : 'photos'}`)
const bestBench = (layer: string) => (layer === 'photos' ? 'photos' : layer)
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
      <button class="plainbtn" @click="dusk = !dusk">{{ dusk ? t('app.day') : t('app.dusk') }}</button>
    </header>
    <main>
      <p v-if="loaded && !projects.length" class="emptynote">{{ t('projects.empty') }}</p>
      <article v-for="p in projects" :key="p.id" class="slab">
        <a :href="`/projects/${p.id}/photos`" @click.prevent="open(p)">
          <img
            v-if="p.poster"
            class="poster"
            :src="`/api/projects/${p.id}/layers/${p.poster}/poster`"
            alt=""
          />
          <img v-else-if="p.picture" :src="photoUrl(p.id, 'thumb', p.picture, 480)" alt="" />
          <span v-else class="blank"></span>
          <b>{{ p.name }}</b>
        </a>
        <div class="facts num">
          <span>{{ t('projects.photos', { n: p.photos }) }}</span>
          <span>{{ t(`projects.best.${p.best_layer ?? 'none'}`) }}</span>
          <span v-if="p.running" class="works">{{ t('projects.running') }}</span>
          <span>{{ bytes(p.bytes) }}</span>
          <button
            v-if="p.cache_bytes > 1e6"
            class="plainbtn"
            :title="t('projects.freeHint')"
            :aria-label="`${t('projects.free', { size: bytes(p.cache_bytes) })}, ${p.name}`"
            @click="free(p)"
          >
            {{ t('projects.free', { size: bytes(p.cache_bytes) }) }}
          </button>
          <button class="plainbtn" :aria-label="`${t('projects.remove')} ${p.name}`" @click="remove(p)">
            {{ t('projects.remove') }}
          </button>
        </div>
      </article>
    </main>
    <JobLine />
  </div>
</template>

<style scoped>
.page {
  height: 100%;
  display: grid;
  grid-template-rows: auto 1fr 32px;
  background: linear-gradient(var(--paper), var(--stone));
}
header {
  display: flex;
  align-items: baseline;
  gap: 14px;
  padding: 18px 26px;
  border-bottom: 1px solid var(--joint);
  background: var(--paper);
}
h1 {
  font-size: 20px;
  letter-spacing: 0.01em;
}
.add {
  margin-left: auto;
  display: flex;
  gap: 8px;
  width: 400px;
}
main {
  overflow: auto;
  padding: 24px 26px;
  display: grid;
  gap: 14px;
  grid-template-columns: repeat(auto-fill, minmax(420px, 1fr));
  align-content: start;
}
.slab {
  background: var(--paper);
  border: 1px solid var(--joint);
  border-radius: 4px 9px 6px 10px / 8px 4px 9px 5px;
  overflow: hidden;
}
.slab a {
  display: grid;
  grid-template-columns: 200px 1fr;
  gap: 16px;
  align-items: center;
  color: inherit;
  text-decoration: none;
}
.slab img,
.blank {
  width: 200px;
  height: 140px;
  object-fit: cover;
  display: block;
  background: var(--stone2);
}
.slab .poster {
  object-fit: contain;
}
.slab b {
  font-size: 16px;
  padding-right: 12px;
}
.facts {
  display: flex;
  gap: 16px;
  align-items: center;
  padding: 8px 12px;
  border-top: 1px solid var(--joint);
  background: var(--stone);
  color: var(--ink2);
  font-size: 13px;
}
.facts button:last-child {
  margin-left: auto;
}
.works {
  color: var(--ochre);
  font-weight: 600;
}
</style>
