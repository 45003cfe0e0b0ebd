<script setup lang="ts">
import { ElInputNumber } from 'element-plus'
import { useI18n } from 'vue-i18n'
import { useKeys } from '@/composables/useKeys'
import type { Measure } from '@/composables/useMeasure'
import { complete, known, type Bar, type End } from '@/lib/bars'
import { fixed } from '@/i18n/numbers'

/** Measured distances: mark both ends of each in two photos or more, and type how long it is. */
const props = defineProps<{ measure: Measure }>()
const { t } = useI18n()
const { bars, before, active, told } = props.measure
const ENDS: End[] = ['a', 'b']

const count = (bar: Bar, end: End) => Object.keys(bar[end].marks).length
const result = (bar: Bar) => told.value.find((b) => b.name === bar.name)
function change(k: number, part: Partial<Bar>) {
  props.measure.set(bars.value.map((b, n) => (n === k ? { ...b, ...part } : b)))
}
const { close } = props.measure
useKeys('measure.title', [
  { keys: 'Escape', says: 'keys.close', act: close },
  { keys: 'Ctrl+Z', says: 'keys.undo', act: props.measure.undo },
])
</script>

<template>
  <div class="rows over-world" role="group" :aria-label="t('measure.title')">
    <p class="quiet">{{ t('measure.hint') }}</p>
    <div v-for="(bar, k) in bars" :key="k" class="row" :class="{ on: active.bar === k }">
      <input
        class="name"
        :value="bar.name"
        maxlength="60"
        :aria-label="t('measure.name')"
        @change="change(k, { name: ($event.target as HTMLInputElement).value })"
      />
      <button
        v-for="(end, n) in ENDS"
        :key="end"
        class="plainbtn num"
        :aria-pressed="active.bar === k && active.end === end"
        :title="t('measure.endHint')"
        @click="active = { bar: k, end }"
      >
        {{ known(bar, end) ? '✓' : '+' }} {{ t('measure.end', { n: n + 1, photos: count(bar, end) }) }}
      </button>
      <el-input-number
        :model-value="bar.length_mm ?? undefined"
        :min="0.001"
        :max="1000000"
        :controls="false"
        size="small"
        style="width: 84px"
        :aria-label="t('measure.length', { name: bar.name })"
        @update:model-value="change(k, { length_mm: $event ?? null })"
      />
      <span>mm ±</span>
      <el-input-number
        :model-value="bar.within_mm"
        :min="0.001"
        :max="1000"
        :controls="false"
        size="small"
        style="width: 58px"
        :aria-label="t('measure.within', { name: bar.name })"
        @update:model-value="change(k, { within_mm: $event ?? 0.5 })"
      />
      <label
        ><input
          type="checkbox"
          :checked="bar.checks"
          @change="change(k, { checks: ($event.target as HTMLInputElement).checked })"
        />
        {{ t('measure.checks') }}</label
      >
      <span v-if="result(bar)" class="num quiet">{{
        t('measure.misses', { mm: fixed(result(bar)!.miss_mm, 2) })
      }}</span>
      <button
        class="plainbtn"
        :aria-label="t('measure.remove', { name: bar.name })"
        @click="measure.remove(k)"
      >
        ×
      </button>
    </div>
    <div class="row">
      <button class="plainbtn" @click="measure.add">{{ t('measure.add') }}</button>
      <button class="plainbtn" :disabled="!before.length" @click="measure.undo">
        {{ t('finish.undo') }}
      </button>
      <span class="fill"></span>
      <button class="plainbtn" @click="close">{{ t('level.close') }}</button>
      <button
        class="take"
        :disabled="!before.length || bars.some((b) => !complete(b))"
        :title="bars.some((b) => !complete(b)) ? t('measure.incomplete') : ''"
        @click="measure.apply"
      >
        {{ t('level.apply') }}
      </button>
    </div>
  </div>
</template>

<style scoped>
.name {
  width: 56px;
  padding: 2px 6px;
  border: 1px solid var(--joint);
  border-radius: 4px;
  background: var(--paper);
  color: inherit;
}
</style>
