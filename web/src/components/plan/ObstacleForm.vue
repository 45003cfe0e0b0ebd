<script setup lang="ts">
import { ElInputNumber } from 'element-plus'
import { useI18n } from 'vue-i18n'
import type { PlanIn } from '@/api/client'

/** Boxes that are in the way, by two corners. */
const plan = defineModel<PlanIn>({ required: true })
const emit = defineEmits<{ change: [] }>()
const { t } = useI18n()
function setObstacle(k: number, corner: 'low' | 'high', axis: number, value: number | undefined) {
  const obstacles = plan.value.obstacles!.map((o) => ({ low: [...o.low], high: [...o.high] }))
  obstacles[k][corner][axis] = value ?? 0
  plan.value = { ...plan.value, obstacles: obstacles as PlanIn['obstacles'] }
  emit('change')
}
function addObstacle() {
  const w = plan.value.width ?? 1
  const box = { low: [w, -0.5, 0], high: [w + 0.3, 0.5, 2] }
  plan.value = { ...plan.value, obstacles: [...plan.value.obstacles!, box] as PlanIn['obstacles'] }
  emit('change')
}
function removeObstacle(k: number) {
  plan.value = { ...plan.value, obstacles: plan.value.obstacles!.filter((_, i) => i !== k) }
  emit('change')
}
</script>

<template>
  <div v-for="(o, k) in plan.obstacles" :key="k" class="obstacle">
    <span v-for="corner in ['low', 'high'] as const" :key="corner">
      <i>{{ t(`plan.reaches.${corner}`) }}</i>
      <label v-for="axis in [0, 1, 2]" :key="axis"
        >{{ 'xyz'[axis] }}
        <el-input-number
          :model-value="o[corner][axis]"
          :controls="false"
          size="small"
          style="width: 46px"
          :aria-label="
            t('plan.obstacleAt', { n: k + 1, corner: t(`plan.reaches.${corner}`), axis: 'xyz'[axis] })
          "
          @change="(v: number | undefined) => setObstacle(k, corner, axis, v)"
      /></label>
      m
    </span>
    <button class="link" :aria-label="t('plan.removeObstacle', { n: k + 1 })" @click="removeObstacle(k)">
      ×
    </button>
  </div>
  <button class="link pad" @click="addObstacle">{{ t('plan.addObstacle') }}</button>
</template>

<style scoped>
.obstacle {
  padding: 2px 14px;
  display: grid;
  grid-template-columns: 1fr auto;
  align-items: center;
}
.obstacle span {
  grid-column: 1;
  font-size: 12.5px;
}
.obstacle i {
  display: block;
  font-style: normal;
  color: var(--ink2);
}
.pad {
  padding: 3px 14px;
}
</style>
