<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { useStorage } from '@vueuse/core'
import { ElInputNumber } from 'element-plus'
import { useKeys } from '@/composables/useKeys'
import { boxOf, FIELDS, numbersOf, UNITS, type BoxNumbers, type Unit } from '@/lib/boxNumbers'
import type { Box } from '@/world/build'

/** The keep box in numbers: sizes, where the middle of its foot is, and its turn about the upright. */
const props = defineProps<{ box: Box; scaled: boolean }>()
const emit = defineEmits<{ change: [box: Box]; apply: []; everything: []; close: [] }>()
const { t } = useI18n()
const chosen = useStorage<Unit>('vq-unit', 'mm')
/** Without a scale lengths are in units of the model. */
const unit = computed(() => (props.scaled ? UNITS[chosen.value] : 1))
const digits = computed(() => (props.scaled && chosen.value === 'mm' ? 1 : 3))
const numbers = ref<BoxNumbers>(numbersOf(props.box, unit.value))
const bad = ref(false)
/** The arrow keys change a length by about a hundredth of the box, the turn by a degree. */
const step = computed(() => {
  const longest = Math.max(...props.box.high.map((h, k) => h - props.box.low[k])) * unit.value
  return 10 ** Math.max(-digits.value, Math.round(Math.log10(longest / 100)))
})
watch([() => props.box, unit], ([box, u]) => {
  numbers.value = numbersOf(box, u)
  bad.value = false
})
function typed(field: keyof BoxNumbers, value: number | null | undefined) {
  if (value === null || value === undefined || value === numbers.value[field]) return
  const box = boxOf({ ...numbers.value, [field]: value }, unit.value)
  bad.value = !box
  if (box) emit('change', box)
}
function onGround() {
  emit('change', { ...props.box, low: [props.box.low[0], props.box.low[1], 0] })
}
useKeys('boxStrip.title', [{ keys: 'Escape', says: 'keys.close', act: () => emit('close') }])
</script>

<template>
  <div class="strip over-world" role="group" :aria-label="t('boxStrip.title')">
    <label v-for="f in FIELDS" :key="f">
      {{ t(`boxStrip.${f}`) }}
      <el-input-number
        :model-value="Number(numbers[f].toFixed(f === 'turn' ? 1 : digits))"
        :controls="false"
        :step="f === 'turn' ? 1 : step"
        :precision="f === 'turn' ? 1 : digits"
        size="small"
        style="width: 78px"
        :aria-label="t(`boxStrip.${f}`)"
        @change="typed(f, $event)"
      />
    </label>
    <label v-if="scaled">
      {{ t('boxStrip.unit') }}
      <select v-model="chosen">
        <option v-for="(_, u) in UNITS" :key="u" :value="u">{{ t(`boxStrip.unit_${u}`) }}</option>
      </select>
    </label>
    <span v-else class="quiet">{{ t('boxStrip.noScale') }}</span>
    <span v-if="bad" role="alert" class="bad">{{ t('boxStrip.bad') }}</span>
    <button class="plainbtn" :disabled="box.low[2] === 0 || box.high[2] <= 0" @click="onGround">
      {{ t('boxStrip.ground') }}
    </button>
    <button class="plainbtn" @click="emit('everything')">{{ t('boxStrip.everything') }}</button>
    <button class="plainbtn" @click="emit('close')">{{ t('level.close') }}</button>
    <button class="take" @click="emit('apply')">{{ t('box.apply') }}</button>
  </div>
</template>

<style scoped>
.strip {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 10px;
  align-items: end;
}
label {
  display: grid;
  gap: 2px;
  font-size: 12.5px;
}
.bad {
  color: var(--el-color-danger);
  font-size: 13px;
}
</style>
