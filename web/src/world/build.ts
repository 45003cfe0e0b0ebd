import * as THREE from 'three'
import type { CameraOut } from '@/api/client'
import type { Tones } from './tones'

export interface Cloud {
  positions: Float32Array
  colors: Uint8Array
  views: Uint8Array
  /** Of a sparse cloud: error of each point in pixels. */
  error?: Float32Array
  /** Expected error (standard deviation) of each point in units of the GSD; NaN where none is stated. */
  sigma?: Float32Array
  /** Of a dense one: best pixel size on the subject in world units, normals (three bytes each), and rows of the photos that gave them. */
  gsd?: Float32Array
  normals?: Int8Array
  photos?: Int16Array
}

/**
 * A cloud as the server packs it: count, positions, colours, views; of a sparse one error and deviation besides, of a
 * dense one pixel size, deviation, normals and photos.
 */
export function readCloud(data: ArrayBuffer): Cloud {
  const n = new DataView(data).getUint32(0, true)
  const at = 4 + 12 * n
  const more = at + 4 * n
  const floats = (k: number) => new Float32Array(data.slice(more + 4 * k * n, more + 4 * (k + 1) * n))
  return {
    positions: new Float32Array(data.slice(4, at)),
    colors: new Uint8Array(data, at, 3 * n),
    views: new Uint8Array(data, at + 3 * n, n),
    ...(n && data.byteLength === more + 8 * n ? { error: floats(0), sigma: floats(1) } : {}),
    ...(n && data.byteLength === more + 13 * n
      ? {
          gsd: floats(0),
          sigma: floats(1),
          normals: new Int8Array(data, more + 8 * n, 3 * n),
          photos: new Int16Array(data.slice(more + 11 * n)),
        }
      : {}),
  }
}

/** Bare points in the form the server packs clouds in. */
export function packCloud(points: number[][]): ArrayBuffer {
  const n = points.length
  const data = new ArrayBuffer(4 + 16 * n)
  new DataView(data).setUint32(0, n, true)
  new Float32Array(data, 4, 3 * n).set(points.flat())
  new Uint8Array(data, 4 + 12 * n, 3 * n).fill(96)
  return data
}

/** Cividis-like ramp: even to the eye and safe for colour-blind eyes. */
const RAMP = [
  [0, 34, 78],
  [53, 69, 108],
  [102, 105, 112],
  [148, 142, 119],
  [200, 184, 102],
  [254, 232, 56],
]

export function ramp(t: number): [number, number, number] {
  const x = Math.min(Math.max(t, 0), 1) * (RAMP.length - 1)
  const i = Math.min(Math.floor(x), RAMP.length - 2)
  const f = x - i
  return [0, 1, 2].map((k) => RAMP[i][k] * (1 - f) + RAMP[i + 1][k] * f) as [number, number, number]
}

export type CloudMode = 'color' | 'height' | 'views' | 'error' | 'sigma' | 'normal' | 'gsd' | 'photo'

/** What a mode colours points by, and over which range; null where a cloud does not hold it. */
export function cloudScale(
  cloud: Cloud,
  mode: CloudMode,
): { values: ArrayLike<number>; range: number[] } | null {
  if (mode === 'views') return { values: cloud.views, range: [2, 12] }
  if (mode === 'height') {
    const values = cloud.positions.filter((_, i) => i % 3 === 2)
    return {
      values,
      range: values.reduce((r, v) => [Math.min(r[0], v), Math.max(r[1], v)], [Infinity, -Infinity]),
    }
  }
  const values = {
    error: cloud.error,
    sigma: cloud.sigma,
    gsd: cloud.gsd,
    normal: undefined,
    photo: undefined,
    color: undefined,
  }[mode]
  if (!values) return null
  // the worst of twenty do not take the colours of all others
  const known = values.filter((v) => Number.isFinite(v)).sort()
  const at = (share: number) => known[Math.floor(known.length * share)]
  return { values, range: [mode === 'gsd' ? (at(0.05) ?? 0) : 0, at(0.95) ?? 1] }
}

/** A colour for each photo, such that those of neighbours in the order of shooting are far apart. */
function photoColors(photos: Int16Array): Uint8Array {
  const out = new Uint8Array(3 * photos.length)
  const known = new Map<number, [number, number, number]>()
  const color = new THREE.Color()
  photos.forEach((photo, i) => {
    let rgb = known.get(photo)
    if (!rgb) {
      // the golden section of the circle of hues; lightness in three steps besides
      color.setHSL(
        (photo * 0.618034) % 1,
        photo < 0 ? 0 : 0.5,
        0.42 + 0.12 * (photo % 3),
        THREE.SRGBColorSpace,
      )
      const { r, g, b } = color.getRGB({ r: 0, g: 0, b: 0 }, THREE.SRGBColorSpace)
      known.set(photo, (rgb = [255 * r, 255 * g, 255 * b]))
    }
    out.set(rgb, 3 * i)
  })
  return out
}

/** Colours of a cloud in a mode, 0..255, over the range of another one that it is a part of. */
export function cloudColors(cloud: Cloud, mode: CloudMode, like = cloud): Uint8Array {
  // which way a point faces: right, away and up as red, green and blue
  if (mode === 'normal' && cloud.normals) return Uint8Array.from(cloud.normals, (v) => v + 128)
  if (mode === 'photo' && cloud.photos) return photoColors(cloud.photos)
  const scale = mode === 'color' ? null : cloudScale(cloud, mode)
  const whole = scale && like !== cloud ? cloudScale(like, mode) : scale
  if (!scale || !whole) return cloud.colors
  const n = cloud.views.length
  const out = new Uint8Array(3 * n)
  const [low, high] = whole.range
  const value = (i: number) => scale.values[i]
  for (let i = 0; i < n; i++) {
    const share = (value(i) - low) / Math.max(high - low, 1e-9)
    // what is not known counts as the worst
    out.set(ramp(Number.isFinite(share) ? share : 1), 3 * i)
  }
  return out
}

export interface Box {
  low: number[]
  high: number[]
  turn: number
}

/** How far the points of a dense cloud lie apart; 0 where that is not known. */
function spacingOf(cloud: Cloud): number {
  const some = cloud.gsd?.subarray(0, 20_000)
  return some?.length ? [...some].sort((a, b) => a - b)[some.length >> 1] : 0
}

/** The points of a cloud, faded outside of a box where there is one; `whole` if none between them are left out. */
export function cloudObject(
  cloud: Cloud,
  mode: CloudMode,
  size: number,
  tones: Tones,
  like = cloud,
  whole = false,
): THREE.Points {
  const geometry = new THREE.BufferGeometry()
  geometry.setAttribute('position', new THREE.BufferAttribute(cloud.positions, 3))
  geometry.setAttribute('color', new THREE.BufferAttribute(cloudColors(cloud, mode, like), 3, true))
  geometry.setAttribute('pointState', new THREE.BufferAttribute(new Uint8Array(cloud.views.length), 1))
  const material = new THREE.PointsMaterial({ size, vertexColors: true, sizeAttenuation: false })
  material.userData.outside = new THREE.Vector4(...tones.outside)
  material.userData.chosen = new THREE.Color(tones.chosen)
  material.userData.spacing = whole ? spacingOf(cloud) : 0
  material.onBeforeCompile = (shader) => {
    shader.uniforms.boxLow = { value: new THREE.Vector3(-1e9, -1e9, -1e9) }
    shader.uniforms.boxHigh = { value: new THREE.Vector3(1e9, 1e9, 1e9) }
    shader.uniforms.boxTurn = { value: 0 }
    shader.uniforms.spacing = { value: material.userData.spacing as number }
    shader.uniforms.chosen = { value: material.userData.chosen as THREE.Color }
    shader.uniforms.outside = { value: material.userData.outside as THREE.Vector4 }
    material.userData.uniforms = shader.uniforms
    if (material.userData.box) fadeOutside(material, material.userData.box as Box)
    shader.vertexShader = shader.vertexShader
      .replace(
        'void main() {',
        `attribute float pointState; varying float vChosen;
        uniform float spacing; uniform vec3 boxLow; uniform vec3 boxHigh; uniform float boxTurn; varying float vIn;\nvoid main() {`,
      )
      // what is gone lies outside of every view
      .replace(
        '#include <project_vertex>',
        `#include <project_vertex>
        vChosen = pointState == 1.0 ? 1.0 : 0.0;
        if (pointState == 2.0) gl_Position = vec4(2.0, 2.0, 2.0, 1.0);`,
      )
      // from near, points that are all there grow together into a surface
      .replace(
        'gl_PointSize = size;',
        'gl_PointSize = max(size, min(16.0, 1.3 * spacing * scale * projectionMatrix[1][1] / max(-mvPosition.z, 1e-6)));',
      )
      // colours come as the eye sees them; the renderer reckons in linear light
      .replace(
        '#include <color_vertex>',
        '#include <color_vertex>\n vColor.rgb = pow(vColor.rgb, vec3(2.2));',
      )
      .replace(
        '#include <begin_vertex>',
        `#include <begin_vertex>
        float bc = cos(boxTurn), bs = sin(boxTurn);
        vec3 q = vec3(bc * position.x + bs * position.y, -bs * position.x + bc * position.y, position.z);
        vIn = (all(greaterThanEqual(q, boxLow)) && all(lessThanEqual(q, boxHigh))) ? 1.0 : 0.0;`,
      )
    shader.fragmentShader = shader.fragmentShader
      .replace(
        'void main() {',
        'uniform vec4 outside; uniform vec3 chosen; varying float vIn; varying float vChosen;\nvoid main() {',
      )
      .replace(
        '#include <color_fragment>',
        '#include <color_fragment>\n diffuseColor.rgb = mix(mix(diffuseColor.rgb, outside.rgb, outside.a), diffuseColor.rgb, vIn);\n diffuseColor.rgb = mix(diffuseColor.rgb, chosen, 0.8 * vChosen);',
      )
  }
  return new THREE.Points(geometry, material)
}

export function fadeOutside(material: THREE.Material, box: Box) {
  material.userData.box = box
  const u = material.userData.uniforms as Record<string, { value: unknown }> | undefined
  if (!u) return
  ;(u.boxLow.value as THREE.Vector3).fromArray(box.low)
  ;(u.boxHigh.value as THREE.Vector3).fromArray(box.high)
  u.boxTurn.value = box.turn
}

/** World positions of a small open pyramid: its apex, then the corners of its base. */
export function pyramid(
  camera: Pick<CameraOut, 'rotation' | 'center' | 'width' | 'height' | 'focal'>,
  length: number,
) {
  const c = new THREE.Vector3().fromArray(camera.center!)
  const r = camera.rotation!
  const [x, y, z] = r.map((row) => new THREE.Vector3().fromArray(row))
  const w = ((camera.width / 2) * length) / camera.focal
  const h = ((camera.height / 2) * length) / camera.focal
  const corner = (sx: number, sy: number) =>
    c
      .clone()
      .addScaledVector(z, length)
      .addScaledVector(x, sx * w)
      .addScaledVector(y, sy * h)
  return [c, corner(-1, -1), corner(1, -1), corner(1, 1), corner(-1, 1)]
}

/** How long the pyramids of some cameras are drawn: a small share of what they span. */
export function cameraLength(cameras: CameraOut[]): number {
  const centers = cameras.filter((c) => c.center).map((c) => new THREE.Vector3().fromArray(c.center!))
  const reach = centers.length
    ? new THREE.Box3().setFromPoints(centers).getSize(new THREE.Vector3()).length()
    : 1
  return Math.max(reach * 0.035, 1e-3)
}

/** All cameras as lines; each knows which piece of the buffer is its own. */
export function cameraLines(
  cameras: CameraOut[],
  length: number,
  selected: number | null,
  tones: Tones,
  picture?: THREE.Texture | null,
): THREE.Group {
  const group = new THREE.Group()
  const positions: number[] = []
  const colors: number[] = []
  const dots: number[] = []
  const push = (a: THREE.Vector3, b: THREE.Vector3, c: THREE.Color) => {
    positions.push(a.x, a.y, a.z, b.x, b.y, b.z)
    colors.push(c.r, c.g, c.b, c.r, c.g, c.b)
  }
  for (const camera of cameras) {
    if (!camera.center) continue
    const chosen = camera.row === selected
    const p = pyramid(camera, chosen && picture ? 2.6 * length : length)
    const tone = {
      placed: tones.placed,
      weak: tones.weak,
      loose: tones.loose,
      implausible: tones.loose,
      planned: tones.planned,
    }
    const color = new THREE.Color(
      chosen ? tones.chosen : (tone[camera.state as keyof typeof tone] ?? tones.placed),
    )
    for (let k = 1; k <= 4; k++) {
      push(p[0], p[k], color)
      push(p[k], p[(k % 4) + 1], color)
    }
    dots.push(p[0].x, p[0].y, p[0].z)
    if (chosen) group.add(new THREE.Mesh(frameFace(p), framePaint(tones, picture)))
  }
  const lines = new THREE.BufferGeometry()
  lines.setAttribute('position', new THREE.Float32BufferAttribute(positions, 3))
  lines.setAttribute('color', new THREE.Float32BufferAttribute(colors, 3))
  group.add(new THREE.LineSegments(lines, new THREE.LineBasicMaterial({ vertexColors: true })))
  const points = new THREE.BufferGeometry()
  points.setAttribute('position', new THREE.Float32BufferAttribute(dots, 3))
  group.add(
    new THREE.Points(points, new THREE.PointsMaterial({ color: tones.dot, size: 5, sizeAttenuation: false })),
  )
  return group
}

/** The base of a pyramid, with the places of a picture's corners. */
function frameFace(p: THREE.Vector3[]): THREE.BufferGeometry {
  const face = new THREE.BufferGeometry().setFromPoints([p[1], p[2], p[3], p[1], p[3], p[4]])
  face.setAttribute('uv', new THREE.Float32BufferAttribute([0, 1, 1, 1, 1, 0, 0, 1, 1, 0, 0, 0], 2))
  return face
}

/** The chosen camera carries its photo; until that is there, its tone. */
const framePaint = (tones: Tones, picture?: THREE.Texture | null) =>
  new THREE.MeshBasicMaterial({
    ...(picture ? { map: picture } : { color: tones.chosen }),
    opacity: picture ? 0.95 : 0.55,
    transparent: true,
    side: THREE.DoubleSide,
  })

/** The keep box: dashed edges and a flat tab at the middle of each face. */
export function boxObject(box: Box, tones: Tones): THREE.Group {
  const group = new THREE.Group()
  const size = box.high.map((h, k) => h - box.low[k])
  const middle = box.high.map((h, k) => (h + box.low[k]) / 2)
  const edges = new THREE.LineSegments(
    new THREE.EdgesGeometry(new THREE.BoxGeometry(size[0], size[1], size[2])),
    new THREE.LineDashedMaterial({
      color: tones.boxEdge,
      dashSize: Math.max(...size) / 40,
      gapSize: Math.max(...size) / 60,
    }),
  )
  edges.computeLineDistances()
  edges.position.set(middle[0], middle[1], middle[2])
  group.add(edges)
  const tab = Math.max(...size) * 0.07
  for (let axis = 0; axis < 3; axis++)
    for (const side of [0, 1]) {
      const plate = new THREE.Mesh(
        new THREE.PlaneGeometry(tab, tab),
        new THREE.MeshBasicMaterial({
          color: tones.boxTab,
          opacity: 0.75,
          transparent: true,
          side: THREE.DoubleSide,
        }),
      )
      plate.position.set(middle[0], middle[1], middle[2])
      plate.position.setComponent(axis, side ? box.high[axis] : box.low[axis])
      if (axis === 0) plate.rotation.y = Math.PI / 2
      if (axis === 1) plate.rotation.x = Math.PI / 2
      plate.userData = { axis, side }
      group.add(plate)
    }
  group.rotation.z = box.turn
  return group
}

/** Ground: paper-white with a fine scale of squares. */
export function groundGrid(extent: number, tones: Tones): { object: THREE.Object3D; square: number } {
  const square = 10 ** Math.floor(Math.log10(Math.max(extent, 1e-6) / 4))
  const half = Math.ceil((extent * 2) / square)
  const grid = new THREE.GridHelper(
    2 * half * square,
    Math.min(2 * half, 160),
    tones.gridStrong,
    tones.gridFine,
  )
  grid.rotation.x = Math.PI / 2
  const material = grid.material as THREE.Material
  material.transparent = true
  material.opacity = 0.6
  material.depthWrite = false
  return { object: grid, square }
}
