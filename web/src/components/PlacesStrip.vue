<script setup lang="ts">
import { computed } from 'vue'
import { useI18n } from 'vue-i18n'
import { useKeys } from '@/composables/useKeys'
import { shownIn, type Places } from '@/composables/usePlaces'

/** Places that photos of two groups show: three of them, each in two photos of either, join the groups. */
const props = defineProps<{ places: Places; groupOf: (photo: string) => number | null }>()
const { t } = useI18n()
const { places: all, before, active } = props.places

const rows = computed(() =>
  all.value.map((p) => {
    const shown = [...shownIn(p, props.groupOf)].sort((a, b) => a[0] - b[0])
    const enough = shown.filter(([, n]) => n >= 2)
    return {
      name: p.name,
      joins: enough.length >= 2,
      words: shown.map(([group, n]) => t('places.shown', { group, n })).join(', ') || t('places.nowhere'),
    }
  }),
)
const ready = computed(() => rows.value.filter((r) => r.joins).length)
const { close } = props.places
useKeys('places.title', [
  { keys: 'Escape', says: 'keys.close', act: close },
  { keys: 'Ctrl+Z', says: 'keys.undo', act: props.places.undo },
])
</script>

<template>
  <div class="rows over-world" role="group" :aria-label="t('places.title')">
    <p class="quiet">{{ t('places.hint') }}</p>
    <div v-for="(row, k) in rows" :key="row.name" class="row" :class="{ on: active === k }">
      <button class="plainbtn num" :aria-pressed="active === k" :title="t('places.pick')" @click="active = k">
        {{ row.joins ? '✓' : '+' }} {{ t('places.one', { name: row.name }) }}
      </button>
      <span class="num quiet">{{ row.words }}</span>
      <span class="fill"></span>
      <button
        class="plainbtn"
        :aria-label="t('measure.remove', { name: t('places.one', { name: row.name }) })"
        @click="places.remove(k)"
      >
        ×
      </button>
    </div>
    <div class="row">
      <button class="plainbtn" @click="places.add">{{ t('places.add') }}</button>
      <button class="plainbtn" :disabled="!before.length" @click="places.undo">{{ t('finish.undo') }}</button>
      <span class="fill"></span>
      <button class="plainbtn" @click="close">{{ t('level.close') }}</button>
      <button
        class="take"
        :disabled="!before.length || ready < 3"
        :title="ready < 3 ? t('places.incomplete') : ''"
        @click="places.apply"
      >
        {{ t('places.join') }}
      </button>
    </div>
  </div>
</template>
