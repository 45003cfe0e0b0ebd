<script setup lang="ts">
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'
import { number } from '@/i18n/numbers'
import { say } from '@/i18n/say'
import { useParcels } from '@/composables/useParcels'

/** What stands against printing the model, once that was looked at. */
interface Checked {
  findings: Parameters<typeof say>[0][]
  size_mm: number[]
  volume_mm3: number
  weight_g: Record<string, number>
}
const { t } = useI18n()
const { fileOf, haveMade } = useParcels()
const check = ref<Checked | null>(null)
const checking = ref(false)
async function look() {
  checking.value = true
  try {
    const wanted = { format: 'check', up: 'z', unit: 'mm', levels: 0 } as const
    if (!(await haveMade(wanted))) return
    const answer = await fetch(fileOf(wanted))
    if (answer.ok) check.value = (await answer.json()) as Checked
  } finally {
    checking.value = false
  }
}
</script>

<template>
  <button class="plainbtn" :disabled="checking" :aria-busy="checking" @click="look">
    {{ t(checking ? 'dispatch.checking' : 'dispatch.check') }}
  </button>
  <div v-if="check" class="checked" role="status">
    <p v-if="!check.findings.length">{{ t('dispatch.printable') }}</p>
    <ul v-else>
      <li v-for="(finding, k) in check.findings" :key="k">{{ say(finding) }}</li>
    </ul>
    <p v-if="check.volume_mm3" class="quiet num">
      {{ t('dispatch.weight', { grams: number(Math.round(check.weight_g.PLA ?? 0)) }) }}
    </p>
  </div>
</template>

<style scoped>
.checked ul {
  margin: 0;
  padding-left: 18px;
}
.checked p {
  margin: 0;
}
</style>
