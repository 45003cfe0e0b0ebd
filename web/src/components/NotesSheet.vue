<script setup lang="ts">
import MarkdownIt from 'markdown-it'
import { ElDialog, ElInput } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Project } from '@/api/client'

/** What somebody notes of a project, as Markdown: written on the left, as it will be read on the right. */
const props = defineProps<{ project: Project }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ changed: [] }>()
const { t } = useI18n()
const text = ref('')
watch(open, (now) => now && (text.value = props.project.notes), { immediate: true })
// neither HTML nor pictures from elsewhere
const markdown = new MarkdownIt({ html: false, linkify: false, typographer: false }).disable('image')
const read = computed(() => markdown.render(text.value))
async function keep() {
  open.value = false
  if (text.value === props.project.notes) return
  await ask(
    api.PATCH('/api/v1/projects/{project_id}', {
      params: { path: { project_id: props.project.id } },
      body: { notes: text.value },
    }),
    true,
  )
  emit('changed')
}
</script>

<template>
  <el-dialog
    v-model="open"
    :title="t('notes.title', { name: props.project.name })"
    width="760px"
    append-to-body
    :close-on-click-modal="false"
  >
    <div class="both">
      <el-input
        v-model="text"
        type="textarea"
        :rows="14"
        maxlength="50000"
        :aria-label="t('notes.text')"
        :placeholder="t('notes.hint')"
        @keydown.ctrl.enter="keep"
      />
      <!-- eslint-disable-next-line vue/no-v-html -- made by the renderer above, which takes no HTML -->
      <div class="read" v-html="read"></div>
    </div>
    <template #footer>
      <span class="acts"
        ><button class="plainbtn" @click="open = false">{{ t('notes.cancel') }}</button
        ><button class="plainbtn keep" @click="keep">{{ t('notes.keep') }}</button></span
      >
    </template>
  </el-dialog>
</template>

<style scoped>
.both {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 14px;
}
.read {
  border: 1px solid var(--joint);
  border-radius: 6px;
  padding: 6px 14px;
  max-height: 320px;
  overflow: auto;
  overflow-wrap: anywhere;
}
.read :deep(h1) {
  font-size: 17px;
}
.read :deep(h2) {
  font-size: 15px;
}
.read :deep(:is(h1, h2, h3, p, ul, ol, pre)) {
  margin: 0 0 8px;
}
.acts {
  display: inline-flex;
  gap: 8px;
}
.keep {
  background: var(--lichen);
  color: #fff;
}
</style>
