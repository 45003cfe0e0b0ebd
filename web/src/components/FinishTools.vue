<script setup lang="ts">
import { ElInputNumber, ElSwitch } from 'element-plus'
import { computed, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Draft, Edit } from '@/api/client'
import type { ChosenFaces, HowJoined } from '@/composables/useChosenFaces'
import { number } from '@/i18n/numbers'
import { count } from '@/lib/format'

/** What can be done to the model: to what is chosen, or to all of it. Lengths are typed in mm. */
const props = defineProps<{
  draft: Draft | null
  chosen: ChosenFaces
  waiting: number
  picking: boolean
  picked: number
  trail: number[][]
  metric: boolean
}>()
/** Whether what is drawn takes only what is seen, not what it covers behind. */
const front = defineModel<boolean>('front', { required: true })
const emit = defineEmits<{
  add: [edit: Edit]
  undo: []
  redo: []
  keep: []
  pick: []
  measure: [on: boolean]
  forget: []
}>()
const { t } = useI18n()
const JOINED: HowJoined[] = ['replace', 'add', 'subtract', 'intersect']
const closed = ref(false)
const height = ref(0)
const faces = ref(20000)
const error = ref(0.2)
const edge = ref(5)
const passes = ref(10)
const raise = ref(1)
const largest = ref<number | undefined>()
const turn = ref(90)
const { where, faces: some, how, looking, change, clear, choose } = props.chosen
const SMALL = { controls: false, size: 'small', style: 'width: 76px' } as const
const mm = (value: number) => value / 1000
/** To what is chosen, or to all where nothing is. */
const there = computed(() => (where.value.length ? { where: where.value } : {}))
const off = computed(() => !props.draft)
const none = computed(() => !some.value || !!looking.value)
function act(edit: Edit) {
  emit('add', edit)
}
const SECTIONS = ['choose', 'cut', 'shape', 'place', 'size', 'measure'] as const
const open = ref<(typeof SECTIONS)[number]>('choose')
function show(section: (typeof SECTIONS)[number]) {
  open.value = section
  emit('measure', section === 'measure')
}
/** Lengths between the places that were pressed: of the whole chain, straight, and upwards. */
const lengths = computed(() => {
  const p = props.trail
  if (p.length < 2) return null
  const far = (a: number[], b: number[]) => Math.hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2])
  const chain = p.slice(1).reduce((sum, b, k) => sum + far(p[k], b), 0)
  const [first, last] = [p[0], p[p.length - 1]]
  const told = (v: number) => `${number(Number((1000 * v).toPrecision(4)))} mm`
  return { chain: told(chain), straight: told(far(first, last)), up: told(last[2] - first[2]) }
})
</script>

<template>
  <div class="tools">
    <div class="pair">
      <button class="plainbtn" :disabled="!draft?.done && !waiting" @click="emit('undo')">
        {{ t('finish.undo') }}
      </button>
      <button class="plainbtn" :disabled="!draft?.redo && !waiting" @click="emit('redo')">
        {{ t('finish.redo') }}
      </button>
    </div>
    <p v-if="draft" class="quiet num edits" role="status">
      <template v-if="waiting">{{ t('finish.working', { n: waiting }) }} · </template>
      <template v-if="draft.faces !== null">{{
        t('finish.edits', { n: draft.done, faces: count(draft.faces) })
      }}</template>
    </p>
    <span class="seg wide three" role="group" :aria-label="t('finish.what')"
      ><button v-for="s in SECTIONS" :key="s" :aria-pressed="open === s" @click="show(s)">
        {{ t(`finish.section.${s}`) }}
      </button></span
    >
    <div v-if="open === 'choose'" class="part">
      <p class="quiet">{{ t('finish.hint') }}</p>
      <span class="seg wide" role="group" :aria-label="t('finish.joining')"
        ><button v-for="h in JOINED" :key="h" :aria-pressed="how === h" @click="how = h">
          {{ t(`finish.joined.${h}`) }}
        </button></span
      >
      <label class="pair"
        ><span>{{ t('finish.front') }}</span
        ><el-switch v-model="front" :aria-label="t('finish.front')"
      /></label>
      <p class="num" role="status">
        {{ looking ? t('finish.looking') : t('finish.chosen', { n: some, count: count(some) }) }}
      </p>
      <div class="row">
        <button class="plainbtn" :disabled="off" @click="choose({ by: 'small parts', share: 0.05 })">
          {{ t('finish.loose') }}
        </button>
        <button class="plainbtn" :disabled="off" @click="choose({ by: 'rims' })">
          {{ t('finish.rims') }}
        </button>
        <button class="plainbtn" :disabled="off" @click="choose({ by: 'everything' })">
          {{ t('finish.everything') }}
        </button>
      </div>
      <div class="row">
        <button class="plainbtn" :disabled="none" @click="change('grow')">{{ t('finish.grow') }}</button>
        <button class="plainbtn" :disabled="none" @click="change('shrink')">{{ t('finish.shrink') }}</button>
        <button class="plainbtn" :disabled="off" @click="change('invert')">{{ t('finish.invert') }}</button>
        <button class="plainbtn" :disabled="!where.length" @click="clear">{{ t('finish.deselect') }}</button>
      </div>
      <div class="row">
        <button class="plainbtn strong" :disabled="none" @click="act({ kind: 'delete', where })">
          {{ t('finish.delete') }}
        </button>
        <button class="plainbtn" :disabled="none" @click="act({ kind: 'keep', where })">
          {{ t('finish.keepOnly') }}
        </button>
        <button class="plainbtn" :disabled="none" @click="act({ kind: 'bridges', where })">
          {{ t('finish.bridges') }}
        </button>
      </div>
    </div>
    <div v-else-if="open === 'cut'" class="part">
      <div class="row">
        <button class="plainbtn" :disabled="off" @click="act({ kind: 'cut', at: 'ground', closed })">
          {{ t('finish.cutGround') }}
        </button>
        <button class="plainbtn" :disabled="off" @click="act({ kind: 'cut', at: 'box', closed })">
          {{ t('finish.cutBox') }}
        </button>
      </div>
      <div class="pair">
        <button
          class="plainbtn"
          :disabled="off"
          @click="act({ kind: 'cut', at: 'height', height: mm(height), closed })"
        >
          {{ t('finish.cutHeight') }}
        </button>
        <span class="unit"
          ><el-input-number v-model="height" v-bind="SMALL" :aria-label="t('finish.cutHeight')" /> mm</span
        >
      </div>
      <label class="pair"
        ><span>{{ t('finish.closed') }}</span
        ><el-switch v-model="closed" :aria-label="t('finish.closed')"
      /></label>
      <button class="plainbtn" :disabled="off" @click="act({ kind: 'main-body' })">
        {{ t('finish.main') }}
      </button>
      <div class="pair">
        <button
          class="plainbtn"
          :disabled="off"
          @click="act({ kind: 'fill', ...(largest ? { largest: mm(largest) } : {}) })"
        >
          {{ t('finish.fill') }}
        </button>
        <span class="unit"
          >{{ t('finish.upTo') }}
          <el-input-number v-model="largest" v-bind="SMALL" :min="0.01" :aria-label="t('finish.fillUpTo')" />
          mm</span
        >
      </div>
    </div>
    <div v-else-if="open === 'shape'" class="part">
      <p class="quiet">{{ t(where.length ? 'finish.toChosen' : 'finish.toAll') }}</p>
      <div class="pair">
        <button class="plainbtn" :disabled="off" @click="act({ kind: 'smooth', passes, soft: 3, ...there })">
          {{ t('finish.smooth') }}
        </button>
        <span class="unit"
          ><el-input-number
            v-model="passes"
            v-bind="SMALL"
            :min="1"
            :max="200"
            :precision="0"
            :aria-label="t('finish.passes')"
          />
          {{ t('finish.passes') }}</span
        >
      </div>
      <div class="row">
        <button class="plainbtn" :disabled="off" @click="act({ kind: 'sharpen', soft: 3, ...there })">
          {{ t('finish.sharpen') }}
        </button>
        <button class="plainbtn" :disabled="none" @click="act({ kind: 'flatten', soft: 3, where })">
          {{ t('finish.flatten') }}
        </button>
      </div>
      <div class="pair">
        <button
          class="plainbtn"
          :disabled="off || !raise"
          @click="act({ kind: 'raise', by: mm(raise), soft: 3, ...there })"
        >
          {{ t('finish.raise') }}
        </button>
        <span class="unit"
          ><el-input-number v-model="raise" v-bind="SMALL" :aria-label="t('finish.raise')" /> mm</span
        >
      </div>
    </div>
    <div v-else-if="open === 'place'" class="part">
      <button class="plainbtn" :disabled="off" :aria-pressed="picking" @click="emit('pick')">
        {{ picking ? t('finish.picking', { n: picked + 1 }) : t('finish.level') }}
      </button>
      <div class="row">
        <button class="plainbtn" :disabled="off" @click="act({ kind: 'center', on: 'base' })">
          {{ t('finish.centerBase') }}
        </button>
        <button class="plainbtn" :disabled="off" @click="act({ kind: 'center', on: 'middle' })">
          {{ t('finish.centerMiddle') }}
        </button>
      </div>
      <div class="pair">
        <span class="row"
          ><button
            v-for="(axis, k) in ['X', 'Y', 'Z']"
            :key="axis"
            class="plainbtn"
            :disabled="off || !turn"
            @click="
              act({ kind: 'place', turn: [k === 0 ? turn : 0, k === 1 ? turn : 0, k === 2 ? turn : 0] })
            "
          >
            {{ t('finish.turnAbout', { axis }) }}
          </button></span
        >
        <span class="unit"
          ><el-input-number
            v-model="turn"
            v-bind="SMALL"
            :min="-360"
            :max="360"
            :aria-label="t('finish.degrees')"
          />
          °</span
        >
      </div>
    </div>
    <div v-else-if="open === 'measure'" class="part">
      <p class="quiet">{{ t('finish.measureHint') }}</p>
      <dl v-if="lengths" class="num" role="status">
        <dt>{{ t('finish.straight') }}</dt>
        <dd>{{ lengths.straight }}</dd>
        <dt>{{ t('finish.upwards') }}</dt>
        <dd>{{ lengths.up }}</dd>
        <template v-if="trail.length > 2">
          <dt>{{ t('finish.chain') }}</dt>
          <dd>{{ lengths.chain }}</dd>
        </template>
      </dl>
      <p v-if="lengths && !metric" class="quiet">{{ t('finish.noScale') }}</p>
      <button class="plainbtn" :disabled="!trail.length" @click="emit('forget')">
        {{ t('finish.measureAgain') }}
      </button>
    </div>
    <div v-else class="part">
      <div class="pair">
        <button class="plainbtn" :disabled="off" @click="act({ kind: 'decimate', faces })">
          {{ t('finish.decimate') }}
        </button>
        <el-input-number
          v-model="faces"
          v-bind="SMALL"
          :min="100"
          :max="5000000"
          style="width: 100px"
          :aria-label="t('finish.decimate')"
        />
      </div>
      <div class="pair">
        <button
          class="plainbtn"
          :disabled="off || !error"
          @click="act({ kind: 'decimate', error: mm(error) })"
        >
          {{ t('finish.within') }}
        </button>
        <span class="unit"
          ><el-input-number v-model="error" v-bind="SMALL" :min="0.0001" :aria-label="t('finish.within')" />
          mm</span
        >
      </div>
      <div class="pair">
        <button class="plainbtn" :disabled="off || !edge" @click="act({ kind: 'even', edge: mm(edge) })">
          {{ t('finish.even') }}
        </button>
        <span class="unit"
          ><el-input-number v-model="edge" v-bind="SMALL" :min="0.001" :aria-label="t('finish.even')" />
          mm</span
        >
      </div>
      <p class="quiet">{{ t('finish.sizeHint') }}</p>
    </div>
    <slot />
    <button class="go" :disabled="!!waiting || !draft?.done" @click="emit('keep')">
      <b>{{ t('finish.keep') }}</b>
    </button>
  </div>
</template>

<style scoped>
.part,
.row {
  display: flex;
  gap: 8px;
}
.part {
  flex-direction: column;
}
.row {
  flex-wrap: wrap;
  justify-content: flex-start;
}
.part p {
  margin: 0;
}
.pair {
  display: flex;
  gap: 8px;
  justify-content: space-between;
  align-items: center;
}
.unit {
  display: inline-flex;
  gap: 6px;
  align-items: center;
}
.wide {
  display: flex;
}
.wide button {
  flex: 1;
  padding-inline: 4px;
}
.three {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
}
.three button:nth-child(3n) {
  border-right: 0;
}
.edits {
  margin: 0;
}
dl {
  display: grid;
  grid-template-columns: auto auto;
  gap: 2px 12px;
  margin: 0;
}
dd {
  margin: 0;
  text-align: right;
}
.strong {
  font-weight: 600;
}
</style>
