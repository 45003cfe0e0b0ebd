<script setup lang="ts">
import { ElInputNumber, ElOption, ElSelect, ElSwitch, ElTooltip } from 'element-plus'
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Setting } from '@/api/client'
import { number } from '@/i18n/numbers'
import { choiceLabel, say } from '@/i18n/say'

/** One setting: its title, what it is now, and on hovering or focus all there is to say about it. */
const props = defineProps<{ setting: Setting }>()
const emit = defineEmits<{ change: [value: unknown]; reset: [] }>()
const { t } = useI18n()
const s = computed(() => props.setting)
const id = computed(() => `set-${s.value.name}`)
const changed = computed(() => JSON.stringify(s.value.value) !== JSON.stringify(s.value.preset))
const empty = computed(() => s.value.value === null || s.value.value === undefined)
/** What the field says of itself, unit and all. */
const spoken = computed(() => [title.value, say(s.value.unit)].filter(Boolean).join(', '))
const title = computed(() => say(s.value.title))
const label = (choice: string) => choiceLabel(s.value, choice)
/** A choice whose words are too long to stand beside its title. */
const long = computed(
  () => s.value.kind === 'choice' && (s.value.choices ?? []).some((c) => label(c).length > 11),
)
const preset = computed(() => {
  const v: unknown = s.value.preset
  if (v === null || v === undefined) return t('setting.empty')
  if (typeof v === 'boolean') return t(v ? 'setting.on' : 'setting.off')
  return s.value.choices ? label(String(v)) : number(Number(v))
})
</script>

<template>
  <div class="row" :class="{ long }">
    <el-tooltip placement="left" :show-after="300" :trigger="['hover', 'focus']">
      <template #content>
        <div class="about">
          <p>{{ say(s.description) }}</p>
          <p v-if="s.cost">{{ say(s.cost) }}</p>
          <p v-if="s.usual">
            {{ t('setting.usual', { low: s.usual[0], high: s.usual[1] }) }}
          </p>
        </div>
      </template>
      <label :for="id"
        >{{ title }} <small v-if="s.unit" class="unit">{{ say(s.unit) }}</small></label
      >
    </el-tooltip>
    <span class="value">
      <button
        v-if="changed"
        class="reset"
        :title="t('setting.reset', { value: preset })"
        :aria-label="t('setting.resetOf', { title, value: preset })"
        @click="emit('reset')"
      >
        ↺
      </button>
      <el-switch
        v-if="s.kind === 'boolean'"
        :id="id"
        :model-value="Boolean(s.value)"
        :aria-label="title"
        @change="emit('change', $event)"
      />
      <el-select
        v-else-if="s.kind === 'choice'"
        :id="id"
        :model-value="String(s.value)"
        size="small"
        class="field"
        :aria-label="title"
        @change="emit('change', $event)"
      >
        <el-option v-for="c in s.choices" :key="c" :label="label(c)" :value="c" />
      </el-select>
      <el-input-number
        v-else
        :id="id"
        :model-value="empty ? undefined : Number(s.value)"
        :min="s.minimum ?? undefined"
        :max="s.maximum ?? undefined"
        :step="s.kind === 'integer' ? 1 : 0.05"
        :controls="false"
        :placeholder="s.may_be_empty ? t('setting.empty') : undefined"
        :value-on-clear="s.may_be_empty ? null : (s.preset as number)"
        size="small"
        class="field"
        :aria-label="spoken"
        @change="emit('change', $event ?? null)"
      />
    </span>
  </div>
</template>

<style scoped>
.row {
  padding: 3px 14px;
  min-height: 30px;
  flex: none;
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 8px;
}
label {
  line-height: 1.25;
}
.value {
  display: flex;
  align-items: center;
  gap: 6px;
  flex: none;
}
.field {
  width: 92px;
}
/* what is chosen is never cut: it has a line of its own */
.long {
  flex-direction: column;
  align-items: stretch;
  gap: 2px;
}
.long .field {
  width: auto;
  flex: 1;
}
.unit {
  font-size: 12px;
  color: var(--ink2);
}
.reset {
  border: 0;
  background: none;
  color: var(--lichen-ink);
  cursor: pointer;
  padding: 0 2px;
}
.about {
  max-width: 260px;
}
.about p {
  margin: 0 0 4px;
}
</style>
