<script setup lang="ts">
import { ElDialog } from 'element-plus'
import { computed, shallowRef, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type Project } from '@/api/client'
import { clock } from '@/i18n/numbers'
import { bytes } from '@/lib/format'

/** What a project takes on the disk, what of it could go, and what was removed and can be brought back. */
const props = defineProps<{ project: Project }>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ changed: [] }>()
const { t } = useI18n()
type Space = Awaited<ReturnType<typeof readSpace>>
type Trash = Awaited<ReturnType<typeof readTrash>>
const space = shallowRef<Space | null>(null)
const trash = shallowRef<Trash | null>(null)
const where = () => ({ params: { path: { project_id: props.project.id } } })
const readSpace = () => ask(api.GET('/api/v1/projects/{project_id}/space', where()))
const readTrash = () => ask(api.GET('/api/v1/projects/{project_id}/trash', where()))

async function read() {
  const [a, b] = await Promise.all([readSpace(), readTrash()])
  space.value = a
  trash.value = b
}
watch(open, (now) => now && void read(), { immediate: true })
type What = 'cache' | 'runs' | 'versions' | 'trash'
const rows = computed(() => {
  const s = space.value
  if (!s) return []
  const all: [What, number][] = [
    ['cache', s.cache],
    ['runs', s.runs],
    ['versions', s.versions],
    ['trash', s.trash],
  ]
  return all.filter(([, size]) => size > 0)
})
async function done() {
  await read()
  emit('changed')
}
async function free(what: What) {
  await ask(
    api.POST('/api/v1/projects/{project_id}/space/free', { ...where(), body: { what: [what] } }),
    true,
  )
  await done()
}
const item = (number: number) => ({ params: { path: { project_id: props.project.id, number } } })
async function bringBack(number: number) {
  await ask(api.POST('/api/v1/projects/{project_id}/trash/{number}/bring-back', item(number)), true)
  await done()
}
async function forGood(number: number) {
  await ask(api.DELETE('/api/v1/projects/{project_id}/trash/{number}', item(number)), true)
  await done()
}
/** Versions are told as layers are called. */
const named = (x: NonNullable<Trash>['items'][number]) => {
  const names =
    x.kind === 'versions' ? x.names.map((n) => n.replace(/^\w+/, (l) => t(`layers.${l}`))) : x.names
  return names.length > 3
    ? `${names.slice(0, 2).join(', ')} ${t('photos.andMore', { n: names.length - 2 })}`
    : names.join(', ')
}
</script>

<template>
  <el-dialog
    v-model="open"
    :title="t('space.title', { name: props.project.name })"
    width="620px"
    append-to-body
  >
    <template v-if="space && trash">
      <p class="num">{{ t('space.total', { size: bytes(space.total) }) }}</p>
      <p v-if="!rows.length" class="quiet">{{ t('space.nothing') }}</p>
      <table v-else>
        <tbody>
          <tr v-for="[what, size] in rows" :key="what">
            <th scope="row">
              {{ t(`space.${what}`) }}<small>{{ t(`space.${what}Hint`, { days: trash.days }) }}</small>
            </th>
            <td class="num">{{ bytes(size) }}</td>
            <td>
              <button
                class="plainbtn"
                :aria-label="`${t(`space.act.${what}`)}: ${t(`space.${what}`)}`"
                @click="free(what)"
              >
                {{ t(`space.act.${what}`) }}
              </button>
            </td>
          </tr>
        </tbody>
      </table>
      <template v-if="trash.items.length">
        <h2>{{ t('space.removed') }}</h2>
        <ul>
          <li v-for="x in trash.items" :key="x.number">
            <span dir="auto">{{ named(x) }}</span>
            <small class="quiet num">{{ clock(x.removed) }} · {{ bytes(x.bytes) }}</small>
            <button class="link" @click="bringBack(x.number)">{{ t('space.bringBack') }}</button>
            <button class="link" @click="forGood(x.number)">{{ t('space.forGood') }}</button>
          </li>
        </ul>
      </template>
    </template>
  </el-dialog>
</template>

<style scoped>
table {
  width: 100%;
  border-collapse: collapse;
  margin: 8px 0;
}
th {
  text-align: left;
  font-weight: 600;
  padding: 6px 12px 6px 0;
}
th small {
  display: block;
  font-weight: 400;
  color: var(--ink2);
}
td {
  padding: 6px 0 6px 12px;
  text-align: right;
  white-space: nowrap;
}
tr + tr {
  border-top: 1px solid var(--joint);
}
h2 {
  font-size: 13px;
  margin: 14px 0 4px;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
  max-height: 240px;
  overflow: auto;
}
li {
  display: flex;
  gap: 12px;
  padding: 3px 0;
  align-items: baseline;
}
li span {
  flex: 1;
  overflow-wrap: anywhere;
}
.link {
  border: 0;
  background: none;
  color: var(--lichen-ink);
  cursor: pointer;
  padding: 0;
}
</style>
