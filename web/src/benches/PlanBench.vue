<script setup lang="ts">
import { ElInputNumber, ElOption, ElSelect } from 'element-plus'
import * as THREE from 'three'
import { onMounted, ref, shallowRef } from 'vue'
import { useI18n } from 'vue-i18n'
import { api, ask, type PlanIn, type PlanOut } from '@/api/client'
import WorldPane from '@/components/WorldPane.vue'
import { metres } from '@/composables/format'
import { useProject } from '@/stores/project'
import type { World } from '@/world/World'

const { t } = useI18n()
const project = useProject()
const plan = ref<PlanIn | null>(null)
const out = shallowRef<PlanOut | null>(null)
const kind = ref<'milestone' | 'finial'>('milestone')
let world: World | null = null
let framed = false
type Row = [keyof PlanIn, number, number, number, string]
const SUBJECT: Row[] = [
  ['width', 0.001, 1000, 0.01, 'm'],
  ['depth', 0.001, 1000, 0.01, 'm'],
  ['height', 0.001, 1000, 0.01, 'm'],
]
const CAMERA: Row[] = [
  ['pixels_wide', 64, 40000, 100, 'px'],
  ['pixels_high', 64, 40000, 100, 'px'],
  ['sensor_mm', 0.5, 200, 0.1, 'mm'],
  ['focal_mm', 0.5, 3000, 1, 'mm'],
  ['f_number', 0.5, 128, 1, ''],
  ['detail_mm', 0.001, 1000, 0.1, 'mm'],
  ['overlap', 0.3, 0.95, 0.05, ''],
  ['rings', 1, 8, 1, ''],
]

onMounted(async () => {
  plan.value = (await ask(api.GET('/api/projects/{project_id}/plan', project.path))) as PlanIn
  await change()
})
async function change() {
  if (!plan.value) return
  out.value = await ask(api.PUT('/api/projects/{project_id}/plan', { ...project.path, body: plan.value }))
  project.planned = out.value.total
  show()
}
function show() {
  if (!world || !plan.value || !out.value) return
  const p = plan.value
  const [w, d, h] = [p.width!, p.depth!, p.height!]
  const shape =
    p.shape === 'box'
      ? new THREE.BoxGeometry(w, d, h)
      : p.shape === 'sphere'
        ? new THREE.SphereGeometry(0.5, 40, 24).scale(w, d, h)
        : new THREE.CylinderGeometry(0.5, 0.5, 1, 48).rotateX(Math.PI / 2).scale(w, d, h)
  const body = new THREE.Mesh(shape, new THREE.MeshStandardMaterial({ color: 0xcbb893, roughness: 1 }))
  body.position.z = h / 2
  const edge = new THREE.LineSegments(
    new THREE.EdgesGeometry(shape, 30),
    new THREE.LineBasicMaterial({ color: 0x6d5f45 }),
  )
  body.add(edge)
  world.setShape(body)
  world.setGround(out.value.distance)
  world.setCameras(
    out.value.stations.map((s, k) => ({
      row: k,
      photo: '',
      state: 'planned',
      rotation: s.rotation,
      center: s.center,
      width: p.pixels_wide!,
      height: p.pixels_high!,
      focal: out.value!.focal_px,
      ties: 0,
    })),
    null,
  )
  if (!framed) world.home()
  framed = true
}
async function shoot() {
  if (!plan.value || !out.value) return
  const p = plan.value
  const diagonal = Math.hypot(36, 24) / Math.hypot(p.pixels_wide!, p.pixels_high!)
  await ask(
    api.POST('/api/projects/{project_id}/plan/shoot', {
      ...project.path,
      body: {
        scene: kind.value,
        rings: p.rings!,
        per_ring: out.value.per_ring,
        width: Math.min(p.pixels_wide!, 4000),
        height: Math.min(p.pixels_high!, 4000),
        focal35: out.value.focal_px * diagonal,
        seed: 1,
      },
    }),
  )
}
function ready(w: World) {
  world = w
  show()
}
</script>

<template>
  <section class="bench">
    <div v-if="out" class="bar num">
      <span
        >{{ t('plan.distance') }} <b>{{ metres(out.distance) }}</b></span
      >
      <span
        >{{ t('plan.gsd') }} <b>{{ out.gsd_mm.toFixed(2) }} mm</b> ·
        {{ out.fine_enough ? t('plan.fine') : t('plan.coarse') }}</span
      >
      <span
        >{{ t('plan.sharp') }} <b>{{ metres(out.near) }} – {{ metres(out.far) }}</b></span
      >
      <span
        >{{ t('plan.perRing') }} <b>{{ out.per_ring }}</b></span
      >
      <span
        >{{ t('plan.elevations') }}
        <b>{{ out.elevations.map((e) => `${e.toFixed(0)}°`).join(', ') }}</b></span
      >
      <span
        >{{ t('plan.total') }} <b>{{ out.total }}</b></span
      >
    </div>
    <WorldPane class="grow" :parts="['cameras', 'mesh', 'ground']" @ready="ready" />
    <Teleport to="#tray-top">
      <div v-if="plan" class="form">
        <h3>{{ t('plan.subject') }}</h3>
        <div class="row">
          <span>{{ t('plan.shape') }}</span>
          <el-select
            v-model="plan.shape"
            size="small"
            style="width: 120px"
            :aria-label="t('plan.shape')"
            @change="change"
          >
            <el-option
              v-for="s in ['box', 'cylinder', 'sphere']"
              :key="s"
              :value="s"
              :label="t(`plan.${s}`)"
            />
          </el-select>
        </div>
        <div v-for="[k, low, high, step, unit] in SUBJECT" :key="k" class="row">
          <label :for="`p-${k}`">{{ t(`plan.${k}`) }}</label>
          <span
            ><el-input-number
              :id="`p-${k}`"
              v-model="plan[k] as number"
              :min="low"
              :max="high"
              :step="step"
              :controls="false"
              size="small"
              style="width: 80px"
              @change="change"
            />
            <i>{{ unit }}</i></span
          >
        </div>
        <h3>{{ t('plan.camera') }}</h3>
        <div v-for="[k, low, high, step, unit] in CAMERA" :key="k" class="row">
          <label :for="`p-${k}`">{{ t(`plan.${k}`) }}</label>
          <span
            ><el-input-number
              :id="`p-${k}`"
              v-model="plan[k] as number"
              :min="low"
              :max="high"
              :step="step"
              :controls="false"
              size="small"
              style="width: 80px"
              @change="change"
            />
            <i>{{ unit }}</i></span
          >
        </div>
        <div class="row">
          <span>{{ t('plan.scene') }}</span>
          <el-select v-model="kind" size="small" style="width: 150px" :aria-label="t('plan.scene')">
            <el-option v-for="s in ['milestone', 'finial']" :key="s" :value="s" :label="t(`plan.${s}`)" />
          </el-select>
        </div>
        <button class="go" @click="shoot">
          <b>{{ t('plan.shoot') }}</b><span v-if="out" class="num">{{
            t('projects.photos', { n: out.total })
          }}</span>
        </button>
        <div v-for="f in out?.findings ?? []" :key="f" class="card">{{ f }}</div>
      </div>
    </Teleport>
  </section>
</template>

<style scoped>
.grow {
  flex: 1;
}
.form {
  padding: 4px 0 14px;
}
h3 {
  font-size: 13px;
  padding: 8px 14px 2px;
}
.row {
  display: flex;
  justify-content: space-between;
  align-items: center;
  padding: 2px 14px;
  min-height: 28px;
}
.row i {
  font-style: normal;
  color: var(--ink2);
  display: inline-block;
  width: 24px;
  font-size: 12px;
}
.go {
  margin: 10px 14px;
  width: calc(100% - 28px);
  padding: 9px 12px;
  border-radius: 6px;
  border: 0;
  background: var(--ochre);
  color: var(--on-ochre);
  text-align: left;
  cursor: pointer;
  display: flex;
  justify-content: space-between;
}
.card {
  margin: 6px 12px;
  padding: 8px 11px;
  background: var(--stone);
  border-radius: 6px;
  border-left: 3px solid var(--ochre);
  font-size: 13px;
}
</style>
