<script setup lang="ts">
import { useI18n } from 'vue-i18n'
import type { Expected } from '@/api/client'
import { seconds } from '@/lib/format'
import { fixed } from '@/i18n/numbers'

/** What a build of a plan will take on this machine, grade by grade. */
const props = defineProps<{ expected: Expected[] }>()
const { t } = useI18n()
</script>

<template>
  <table class="takes">
    <caption>
      {{
        t('plan.takes')
      }}
    </caption>
    <tbody>
      <tr v-for="e in props.expected" :key="e.grade">
        <td>{{ t(`grade.${e.grade}`) }}</td>
        <td>{{ t('plan.about', { time: seconds(e.seconds) }) }}</td>
        <td>{{ fixed(e.memory_mb / 1000, 1) }} GB</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.takes {
  margin: 6px 14px;
  width: calc(100% - 28px);
  font-size: 12.5px;
  border-collapse: collapse;
}
.takes caption {
  text-align: left;
  color: var(--ink2);
  font-size: 11.5px;
}
.takes td {
  padding: 1px 0;
}
.takes td:last-child {
  text-align: right;
}
</style>
