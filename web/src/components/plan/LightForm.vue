<script setup lang="ts">
import { ElCheckboxButton, ElCheckboxGroup, ElInputNumber, ElOption, ElSelect, ElSwitch } from 'element-plus'
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import type { PlanIn } from '@/api/client'

/** What lights the subject, and its own colours. */
const plan = defineModel<PlanIn>({ required: true })
const emit = defineEmits<{ change: [] }>()
const { t } = useI18n()
const LAMPS = ['above', 'sides', 'back', 'camera', 'below'] as const
const light = computed(() => plan.value.light!)
function setLight(values: Partial<NonNullable<PlanIn['light']>>) {
  plan.value = { ...plan.value, light: { ...light.value, ...values } }
  emit('change')
}
</script>

<template>
  <div class="row">
    <span>{{ t('plan.lightOf') }}</span>
    <el-select
      :model-value="light.kind"
      size="small"
      style="width: 128px"
      :aria-label="t('plan.lightOf')"
      @change="(kind: 'sun') => setLight({ kind })"
    >
      <el-option
        v-for="k in ['overcast', 'sun', 'lamps', 'window']"
        :key="k"
        :value="k"
        :label="t(`plan.${k}`)"
      />
    </el-select>
  </div>
  <div
    v-for="[key, on, unit] in [
      ['turn_deg', ['sun', 'window'], '°'],
      ['rise_deg', ['sun'], '°'],
      ['lamp_m', ['lamps', 'window'], 'm'],
    ] as const"
    v-show="(on as readonly string[]).includes(light.kind ?? '')"
    :key="key"
    class="row"
  >
    <label :for="`p-${key}`">{{ t(`plan.light_${key}`) }}</label>
    <span
      ><el-input-number
        :id="`p-${key}`"
        :model-value="light[key]"
        :controls="false"
        size="small"
        style="width: 80px"
        @change="(v: number | undefined) => v !== undefined && setLight({ [key]: v })"
      />
      <i>{{ unit }}</i></span
    >
  </div>
  <el-checkbox-group
    v-if="light.kind === 'lamps'"
    class="lamps"
    size="small"
    :model-value="light.lamps"
    @change="(v) => setLight({ lamps: v as never })"
  >
    <el-checkbox-button v-for="l in LAMPS" :key="l" :value="l">{{ t(`plan.lamp.${l}`) }}</el-checkbox-button>
  </el-checkbox-group>
  <div class="row">
    <label for="p-second">{{ t('plan.second_light') }}</label>
    <el-switch id="p-second" v-model="plan.second_light" size="small" @change="emit('change')" />
  </div>
  <div class="row">
    <span>{{ t('plan.colors') }}</span>
    <span class="colors">
      <input
        v-for="(c, k) in plan.colors"
        :key="k"
        type="color"
        :value="c"
        :aria-label="t('plan.colorOf', { n: k + 1 })"
        @change="
          (e) => {
            plan.colors![k] = (e.target as HTMLInputElement).value
            emit('change')
          }
        "
      />
      <button
        v-if="(plan.colors?.length ?? 0) < 5"
        class="link"
        @click="(plan.colors!.push('#a0522d'), emit('change'))"
      >
        +
      </button>
      <button v-if="plan.colors?.length" class="link" @click="(plan.colors!.pop(), emit('change'))">−</button>
    </span>
  </div>
</template>

<style scoped>
.row {
  padding: 1px 14px;
}
.lamps {
  padding: 2px 14px;
}
.colors {
  display: flex;
  gap: 6px;
  align-items: center;
}
.colors input {
  width: 24px;
  height: 20px;
  border: 1px solid var(--joint);
  padding: 0;
  background: none;
}
</style>
