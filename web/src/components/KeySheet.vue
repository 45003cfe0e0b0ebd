<script setup lang="ts">
import { ElDialog, ElSwitch } from 'element-plus'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { singles, tables, useKeys } from '@/composables/useKeys'

const { t } = useI18n()
const open = ref(false)
useKeys('keys.everywhere', [{ keys: '?', says: 'keys.sheet', act: () => (open.value = true) }])
/** How a key is written: arrows as arrows. */
const written = (keys: string) =>
  keys
    .split('+')
    .map((k) => ({ ArrowLeft: '←', ArrowRight: '→' })[k] ?? k)
    .join(' + ')
</script>

<template>
  <button class="open" :aria-label="t('keys.sheet')" :title="t('keys.sheet')" @click="open = true">?</button>
  <el-dialog v-model="open" :title="t('keys.title')" width="620px" append-to-body>
    <label class="switch"
      ><span>{{ t('keys.singles') }}</span
      ><el-switch v-model="singles" :aria-label="t('keys.singles')"
    /></label>
    <div class="tables">
      <section v-for="table in tables" :key="table.title">
        <h2>{{ t(table.title) }}</h2>
        <dl>
          <template v-for="row in table.rows" :key="row.keys">
            <dt>
              <kbd>{{ written(row.keys) }}</kbd>
            </dt>
            <dd>{{ t(row.says) }}</dd>
          </template>
        </dl>
      </section>
    </div>
  </el-dialog>
</template>

<style scoped>
.open {
  border: 0;
  background: none;
  color: var(--lichen-ink);
  cursor: pointer;
  min-width: 26px;
  min-height: 24px;
  padding: 0 8px;
  font-weight: 600;
}
.switch {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-bottom: 12px;
}
.tables {
  columns: 2;
  column-gap: 28px;
}
section {
  break-inside: avoid;
  margin-bottom: 16px;
}
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 4px 12px;
  margin: 0;
}
dd {
  margin: 0;
}
kbd {
  font: inherit;
  white-space: nowrap;
  border: 1px solid var(--joint);
  border-radius: 3px;
  padding: 0 6px;
}
</style>
