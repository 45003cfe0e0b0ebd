<script setup lang="ts">
import { ElDropdown, ElDropdownItem, ElDropdownMenu, ElSlider } from 'element-plus'
import { useI18n } from 'vue-i18n'
import type { MaskEdit } from '@/api/client'
import { PURPOSES, TOOLS, type MaskPurpose, type MaskTool } from '@/lib/maskTools'
import { byArrows } from '@/lib/roving'

/** Tools that mend masks, and what else can be done to a whole one. */
defineProps<{ several: number }>()
const emit = defineEmits<{ whole: [edit: MaskEdit] }>()
const tool = defineModel<MaskTool>('tool', { required: true })
const purpose = defineModel<MaskPurpose>('purpose', { required: true })
const radius = defineModel<number>('radius', { required: true })
const soft = defineModel<boolean>('soft', { required: true })
const { t } = useI18n()

type Kind = Extract<MaskEdit, { amount: number }>['kind']
const WHOLE: [string, Kind, number][] = [
  ['fill', 'fill holes', 0],
  ['islands', 'drop islands', 0],
  ['wider', 'margin', 3],
  ['narrower', 'margin', -3],
  ['snap', 'snap', 0],
  ['invert', 'invert', 0],
  ['everything', 'everything', 0],
  ['nothing', 'nothing', 0],
]
function choose(next: MaskTool) {
  tool.value = next
  if (!PURPOSES[next].includes(purpose.value)) purpose.value = PURPOSES[next][0] ?? 'add'
}
</script>

<template>
  <div class="bar tools">
    <span class="seg" role="radiogroup" :aria-label="t('masks.tools')" @keydown="byArrows">
      <button
        v-for="k in TOOLS"
        :key="k"
        role="radio"
        :aria-checked="tool === k"
        :tabindex="tool === k ? 0 : -1"
        :title="t(`masks.tool.${k}Hint`)"
        @click="choose(k)"
      >
        {{ t(`masks.tool.${k}`) }}
      </button>
    </span>
    <span
      v-if="PURPOSES[tool].length"
      class="seg"
      role="radiogroup"
      :aria-label="t('masks.purposes')"
      @keydown="byArrows"
    >
      <button
        v-for="k in PURPOSES[tool]"
        :key="k"
        role="radio"
        :aria-checked="purpose === k"
        :tabindex="purpose === k ? 0 : -1"
        :title="t(`masks.purpose.${k}Hint`)"
        @click="purpose = k"
      >
        {{ t(`masks.purpose.${k}`) }}
      </button>
    </span>
    <template v-if="tool === 'brush'">
      <span class="quiet">{{ t('masks.size') }}</span>
      <el-slider
        v-model="radius"
        :min="0.002"
        :max="0.12"
        :step="0.001"
        :show-tooltip="false"
        style="width: 90px"
        :aria-label="t('masks.size')"
      />
    </template>
    <label v-if="PURPOSES[tool].length && purpose !== 'grow' && purpose !== 'ignore'" class="soft">
      <input v-model="soft" type="checkbox" />{{ t('masks.soft') }}
    </label>
    <el-dropdown trigger="click">
      <button class="plainbtn" aria-haspopup="menu">
        {{ several > 1 ? t('masks.wholeOf', { n: several }) : t('masks.whole') }} ▾
      </button>
      <template #dropdown>
        <el-dropdown-menu>
          <el-dropdown-item
            v-for="[name, kind, amount] in WHOLE"
            :key="name"
            @click="emit('whole', { kind, amount })"
            >{{ t(`masks.change.${name}`) }}</el-dropdown-item
          >
        </el-dropdown-menu>
      </template>
    </el-dropdown>
  </div>
</template>

<style scoped>
.soft {
  display: inline-flex;
  gap: 5px;
  align-items: center;
}
</style>
