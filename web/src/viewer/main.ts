import CameraControls from 'camera-controls'
import * as THREE from 'three'
import { readMesh } from '../world/loadMesh'
import { byLanguage } from './words'

/** A model in a page of its own: turn it, see it textured beside plain, move its light, measure. No network. */

CameraControls.install({ THREE })

const words = byLanguage(navigator.language)
const metres = document.body.dataset.scale !== 'none'

function bytesOf(id: string) {
  const text = document.getElementById(id)!.textContent!.trim()
  const binary = atob(text)
  const out = new Uint8Array(binary.length)
  for (let k = 0; k < binary.length; k++) out[k] = binary.charCodeAt(k)
  return out.buffer
}

function button(label: string, press: (on: boolean) => void, on = false) {
  const b = document.createElement('button')
  b.type = 'button'
  b.textContent = label
  b.setAttribute('aria-pressed', String(on))
  b.addEventListener('click', () => {
    const now = b.getAttribute('aria-pressed') !== 'true'
    b.setAttribute('aria-pressed', String(now))
    press(now)
  })
  document.getElementById('bar')!.append(b)
  return b
}

async function start() {
  const canvas = document.querySelector('canvas')!
  const said = document.getElementById('said')!
  let renderer: THREE.WebGLRenderer
  try {
    renderer = new THREE.WebGLRenderer({ canvas, antialias: true })
  } catch {
    said.textContent = words.noWebgl
    return
  }
  renderer.setPixelRatio(Math.min(devicePixelRatio, 2))
  renderer.localClippingEnabled = true
  const scene = new THREE.Scene()
  scene.background = new THREE.Color(0xeeece6)
  const camera = new THREE.PerspectiveCamera(35, 1, 0.001, 1000)
  camera.up.set(0, 0, 1)
  const controls = new CameraControls(camera, canvas)
  controls.updateCameraUp()

  const model = await readMesh(bytesOf('model'))
  const box = new THREE.Box3().setFromObject(model)
  const size = box.getSize(new THREE.Vector3())
  const middle = box.getCenter(new THREE.Vector3())
  const radius = size.length() / 2
  scene.add(model)
  const sky = new THREE.HemisphereLight(0xffffff, 0xb8b2a6, 1.6)
  sky.position.set(0, 0, 1)
  const lamp = new THREE.DirectionalLight(0xffffff, 1.6)
  scene.add(sky, lamp, lamp.target)
  lamp.target.position.copy(middle)
  const shine = (degrees: number) => {
    const a = (degrees * Math.PI) / 180
    lamp.position
      .copy(middle)
      .add(new THREE.Vector3(Math.cos(a), Math.sin(a), 0.9).multiplyScalar(radius * 3))
  }
  shine(-50)

  // the same surface without colour, for the other side of the line
  const plain = model.clone(true)
  plain.traverse((o) => {
    if (o instanceof THREE.Mesh)
      o.material = new THREE.MeshStandardMaterial({ color: 0xcdc4b2, roughness: 1 })
  })
  plain.visible = false
  scene.add(plain)

  const home = () =>
    controls.setLookAt(
      middle.x + 0.9 * radius * 2.2,
      middle.y - 1.6 * radius * 2.2,
      middle.z + 0.7 * radius * 2.2,
      middle.x,
      middle.y,
      middle.z,
      true,
    )
  void home()
  controls.minDistance = radius * 0.02
  controls.maxDistance = radius * 20

  let split = false
  const line = document.getElementById('line')!
  let share = 0.5
  button(words.split, (on) => {
    split = on
    line.hidden = !on
  })
  line.addEventListener('pointerdown', (e) => {
    line.setPointerCapture(e.pointerId)
  })
  line.addEventListener('pointermove', (e) => {
    if (line.hasPointerCapture(e.pointerId)) share = Math.min(0.98, Math.max(0.02, e.clientX / innerWidth))
  })
  line.addEventListener('keydown', (e) => {
    if (e.key === 'ArrowLeft') share = Math.max(0.02, share - 0.02)
    if (e.key === 'ArrowRight') share = Math.min(0.98, share + 0.02)
  })

  const picks: THREE.Vector3[] = []
  const marks = new THREE.Group()
  scene.add(marks)
  let measuring = false
  const tell = () => {
    const told = size.toArray().map((v) => (metres ? `${(v * 1000).toFixed(1)} mm` : v.toFixed(4)))
    said.textContent = measuring ? words.pick : `${told.join(' × ')}`
  }
  button(words.measure, (on) => {
    measuring = on
    picks.length = 0
    marks.clear()
    tell()
  })
  const ray = new THREE.Raycaster()
  let down = { x: 0, y: 0 }
  canvas.addEventListener('pointerdown', (e) => (down = { x: e.clientX, y: e.clientY }))
  canvas.addEventListener('pointerup', (e) => {
    if (!measuring || Math.hypot(e.clientX - down.x, e.clientY - down.y) > 4) return
    ray.setFromCamera(
      new THREE.Vector2((e.clientX / innerWidth) * 2 - 1, 1 - (e.clientY / innerHeight) * 2),
      camera,
    )
    const hit = ray.intersectObject(model, true)[0]
    if (!hit) return
    if (picks.length === 2) {
      picks.length = 0
      marks.clear()
    }
    picks.push(hit.point)
    const dot = new THREE.Mesh(
      new THREE.SphereGeometry(radius * 0.008),
      new THREE.MeshBasicMaterial({ color: 0xb8442a, depthTest: false }),
    )
    dot.renderOrder = 2
    dot.position.copy(hit.point)
    marks.add(dot)
    if (picks.length < 2) return
    const far = picks[0]!.distanceTo(picks[1]!)
    said.textContent = metres ? `${(far * 1000).toFixed(1)} mm` : `${far.toFixed(4)} (${words.noScale})`
    marks.add(
      new THREE.Line(
        new THREE.BufferGeometry().setFromPoints(picks),
        new THREE.LineBasicMaterial({ color: 0xb8442a, depthTest: false }),
      ),
    )
  })

  const light = document.createElement('label')
  light.textContent = words.light
  const slider = document.createElement('input')
  slider.type = 'range'
  slider.min = '-180'
  slider.max = '180'
  slider.value = '-50'
  slider.addEventListener('input', () => shine(Number(slider.value)))
  light.append(slider)
  document.getElementById('bar')!.append(light)
  const again = button(words.all, () => void home())
  again.removeAttribute('aria-pressed')

  let before = performance.now()
  const fit = () => {
    renderer.setSize(innerWidth, innerHeight, false)
    camera.aspect = innerWidth / innerHeight
    camera.updateProjectionMatrix()
  }
  addEventListener('resize', fit)
  fit()
  tell()
  const draw = () => {
    const now = performance.now()
    controls.update((now - before) / 1000)
    before = now
    line.style.left = `${share * 100}%`
    if (split) {
      const x = Math.round(share * innerWidth)
      renderer.setScissorTest(true)
      for (const [from, to, bare] of [
        [0, x, false],
        [x, innerWidth, true],
      ] as const) {
        model.visible = !bare
        plain.visible = bare
        renderer.setScissor(from, 0, to - from, innerHeight)
        renderer.render(scene, camera)
      }
      renderer.setScissorTest(false)
      model.visible = true
      plain.visible = false
    } else renderer.render(scene, camera)
    requestAnimationFrame(draw)
  }
  document.body.dataset.ready = 'yes'
  draw()
}

start().catch((error: unknown) => {
  document.getElementById('said')!.textContent = `${words.broken} ${String(error)}`
})
