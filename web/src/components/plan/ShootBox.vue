<script setup lang="ts">
import { ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type PlanIn, type PlanOut } from '@/api/client'
import { useProject } from '@/stores/project'

/** Shoots the plan: with the practice rig that ships, or with devices at an address. */
const props = defineProps<{ plan: PlanIn; out: PlanOut }>()
const { t } = useI18n()
const project = useProject()
const SCENES = ['milestone', 'finial', 'well-head', 'yard'] as const
const FAILURES = ['none', 'camera error', 'camera silent', 'turntable stall', 'camera battery empty'] as const
const usual = (p: PlanIn) => (p.kind === 'corner' ? 'yard' : p.way === 'turntable' ? 'finial' : 'milestone')
const scene = ref<(typeof SCENES)[number]>(usual(props.plan))
watch(
  () => usual(props.plan),
  (s) => (scene.value = s),
)
const failure = ref<(typeof FAILURES)[number]>('none')
const rig = ref('')
const more = ref(false)
const shots = computed(() => props.out.total - (props.out.roles.underside ?? 0))

async function shoot() {
  const [device, ...kind] = failure.value.split(' ')
  const failures =
    failure.value === 'none' || rig.value
      ? []
      : [{ device, kind: kind.join(' '), after: Math.min(4, shots.value - 1), times: 1 }]
  await ask(
    api.POST('/api/v1/projects/{project_id}/plan/shoot', {
      ...project.path,
      body: {
        scene: scene.value,
        seed: 1,
        plan: props.plan,
        rig: rig.value,
        patience_s: failure.value === 'camera silent' ? 15 : 60,
        failures: failures as never,
      },
    }),
  )
}
</script>

<template>
  <div class="shootbox">
    <div class="row">
      <span>{{ t('plan.scene') }}</span>
      <el-select v-model="scene" size="small" style="width: 150px" :aria-label="t('plan.scene')">
        <el-option v-for="s in SCENES" :key="s" :value="s" :label="t(`plan.${s}`)" />
      </el-select>
    </div>
    <template v-if="more">
      <div class="row">
        <span>{{ t('plan.rig') }}</span>
        <el-input
          v-model="rig"
          size="small"
          style="width: 150px"
          placeholder="http://127.0.0.1:8770"
          :aria-label="t('plan.rig')"
        />
      </div>
      <div class="row">
        <span>{{ t('plan.failure') }}</span>
        <el-select
          v-model="failure"
          size="small"
          style="width: 150px"
          :disabled="!!rig"
          :aria-label="t('plan.failure')"
        >
          <el-option v-for="f in FAILURES" :key="f" :value="f" :label="t(`plan.fails.${f}`)" />
        </el-select>
      </div>
    </template>
    <button class="link" @click="more = !more">{{ t(more ? 'plan.lessReach' : 'plan.moreShoot') }}</button>
    <button class="go" @click="shoot">
      <b>{{ rig ? t('plan.shootWith') : t('plan.shoot') }}</b><span>{{
        t('plan.shots', { n: shots, size: `${Math.round(out.storage_mb)} MB` })
      }}</span>
    </button>
  </div>
</template>

<style scoped>
.shootbox {
  position: sticky;
  bottom: 0;
  background: var(--paper);
  border-top: 1px solid var(--joint);
  padding-top: 4px;
}
.row {
  display: flex;
  justify-content: space-between;
  align-items: center;
  padding: 2px 14px;
  min-height: 28px;
}
.link {
  padding: 3px 14px;
}
.go {
  margin: 8px 14px;
  width: calc(100% - 28px);
}
</style>
