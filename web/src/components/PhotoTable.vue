<script setup lang="ts">
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import type { CameraOut } from '@/api/client'
import { fixed } from '@/i18n/numbers'
import { sorted, type Column } from '@/lib/table'
import { useProject } from '@/stores/project'

/** All photos of an alignment with how well each is tied in; a click on a heading sorts. */
const props = defineProps<{ cameras: CameraOut[] }>()
const { t } = useI18n()
const project = useProject()
const by = ref<Column>('photo')
const down = ref(false)
const planned = computed(() => props.cameras.some((c) => c.off_plan_percent != null))
const columns = computed<Column[]>(() => [
  'photo',
  'state',
  'ties',
  'error',
  'sigma_percent',
  ...(planned.value ? (['off_plan_percent'] as const) : []),
  'focal',
])
/** From so far (per cent) a photo was hardly taken where it was planned, or placed where it was not taken. */
const ASTRAY = 12
const rows = computed(() => sorted(props.cameras, by.value, down.value))

function sort(column: Column) {
  down.value = by.value === column ? !down.value : false
  by.value = column
}
const number = (value: number | null | undefined, digits: number) =>
  value === null || value === undefined ? '' : fixed(value, digits)
</script>

<template>
  <div class="table" role="region" tabindex="0" :aria-label="t('photoTable.title')">
    <table class="num">
      <thead>
        <tr>
          <th
            v-for="c in columns"
            :key="c"
            :aria-sort="by === c ? (down ? 'descending' : 'ascending') : 'none'"
          >
            <button @click="sort(c)">
              {{ t(`photoTable.${c}`) }} {{ by === c ? (down ? '↓' : '↑') : '' }}
            </button>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in rows" :key="c.row" :class="{ on: c.photo === project.selected }">
          <td>
            <button class="name" @click="project.selected = c.photo">{{ c.photo }}</button>
          </td>
          <td>{{ t(`world.${c.state}`) }}</td>
          <td>{{ c.ties }}</td>
          <td>{{ number(c.error, 3) }}</td>
          <td>{{ number(c.sigma_percent, 4) }}</td>
          <td v-if="planned" :class="{ astray: (c.off_plan_percent ?? 0) > ASTRAY }">
            {{ number(c.off_plan_percent, 1) }}{{ (c.off_plan_percent ?? 0) > ASTRAY ? ' ◐' : '' }}
          </td>
          <td>{{ c.center ? number(c.focal, 1) : '' }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.table {
  height: 190px;
  overflow: auto;
  background: var(--paper);
  border-top: 1px solid var(--joint);
}
.astray {
  color: var(--ochre);
}
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 13px;
}
th {
  position: sticky;
  top: 0;
  background: var(--stone);
}
th,
td {
  text-align: right;
  padding: 2px 12px;
  white-space: nowrap;
}
th:nth-child(-n + 2),
td:nth-child(-n + 2) {
  text-align: left;
}
button {
  border: 0;
  background: none;
  padding: 2px 0;
  font: inherit;
  font-weight: 600;
  color: inherit;
  cursor: pointer;
}
.name {
  font-weight: 400;
}
tr.on td {
  background: color-mix(in srgb, var(--lichen) 14%, transparent);
}
</style>
