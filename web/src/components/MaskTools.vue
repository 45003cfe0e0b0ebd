<script setup lang="ts">
import { ElDropdown, ElDropdownItem, ElDropdownMenu, ElSlider } from 'element-plus'
import { computed, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import type { MaskEdit } from '@/api/client'
import ChoiceRow from '@/components/ChoiceRow.vue'
import { PURPOSES, TOOLS, type MaskPurpose, type MaskTool } from '@/lib/maskTools'

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
const tools = computed(() =>
  TOOLS.map((k) => ({ value: k, text: t(`masks.tool.${k}`), hint: t(`masks.tool.${k}Hint`) })),
)
const purposes = computed(() =>
  PURPOSES[tool.value].map((k) => ({
    value: k,
    text: t(`masks.purpose.${k}`),
    hint: t(`masks.purpose.${k}Hint`),
  })),
)
watch(tool, (now) => {
  if (!PURPOSES[now].includes(purpose.value)) purpose.value = PURPOSES[now][0] ?? 'add'
})
</script>

<template>
  <div class="bar mask-tools">
    <ChoiceRow v-model="tool" :label="t('masks.tools')" :choices="tools" />
    <ChoiceRow v-if="purposes.length" v-model="purpose" :label="t('masks.purposes')" :choices="purposes" />
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
    <label v-if="purposes.length && purpose !== 'grow' && purpose !== 'ignore'" class="soft">
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
