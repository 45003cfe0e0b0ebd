import codes from '../../src/vast_quarry/words/codes.json'
import { createPinia, setActivePinia } from 'pinia'
import { createApp, h, nextTick, reactive, type Component } from 'vue'
import { vi } from 'vitest'
import type { Job, Layer, Photo, Setting } from '@/api/client'
import { i18n } from '@/i18n'
import { fetched, PROJECT } from '@/stores/project'

/** Requests that the page made, and what the made-up server answers them. */
export interface Asked {
  method: string
  path: string
  body: unknown
}
export const asked: Asked[] = []

/** Tones of photos that nobody has evened out. */
const AS_SHOT = {
  tone: {},
  own: {},
  evened: 0,
  spread_ev: 0,
  spread_wb: 0,
  corner_stops: 0,
  falloff_from: 'nothing',
}

/** A server that answers what the given function does, by method and path; anything else gets an empty list. */
export function serverAnswers(answer: (request: Asked) => unknown = () => undefined) {
  asked.length = 0
  vi.stubGlobal('fetch', async (request: Request) => {
    const text = await request.text()
    const one = {
      method: request.method,
      path: new URL(request.url).pathname,
      body: text ? JSON.parse(text) : null,
    }
    asked.push(one)
    return new Response(JSON.stringify(answer(one) ?? (one.path.endsWith('/photos/tone') ? AS_SHOT : [])), {
      headers: { 'Content-Type': 'application/json' },
    })
  })
}

/** Stores of their own for a test. */
export function freshStores() {
  setActivePinia(createPinia())
  fetched.clear()
}

/** A component on a page of its own, with stores and words; `props` may be changed afterwards. */
export function mount<P extends Record<string, unknown>>(component: Component, first: P, project = 1) {
  const host = document.body.appendChild(document.createElement('div'))
  const props = reactive({ ...first })
  const app = createApp({ render: () => h(component, props) })
  app.use(i18n)
  app.provide(PROJECT, project)
  app.mount(host)
  const find = (selector: string) => host.querySelector<HTMLElement>(selector)
  const all = (selector: string) => [...host.querySelectorAll<HTMLElement>(selector)]
  const button = (text: string) => all('button').find((b) => b.textContent!.includes(text))
  return { host, props, find, all, button, close: () => (app.unmount(), host.remove()) }
}

/** Until what was clicked has gone to the made-up server and back. */
export const settled = async () => {
  for (let k = 0; k < 4; k++) {
    await new Promise((done) => setTimeout(done))
    await nextTick()
  }
}

export const job = (more: Partial<Job> = {}): Job =>
  ({
    id: 1,
    project_id: 1,
    kind: 'run',
    state: 'running',
    layer: '',
    stage: '',
    done: 0,
    total: 0,
    log: [],
    project: '',
    message: said(''),
    ...more,
  }) as Job

export const setting = (more: Partial<Setting> = {}): Setting => ({
  name: 'sources',
  kind: 'integer',
  may_be_empty: false,
  title: 'Neighbours per depth map',
  description: 'Photos beside it that help.',
  main: true,
  unit: 'photos',
  usual: [4, 12],
  cost: 'Takes longer in proportion.',
  default: 8,
  preset: 8,
  value: 8,
  minimum: 1,
  maximum: 30,
  possible: '',
  ...more,
})

export const layer = (more: Partial<Layer> = {}): Layer =>
  ({
    layer: 'points',
    title: 'Points',
    state: 'ready',
    number: null,
    takes: [],
    settings: [],
    versions: [],
    ...more,
  }) as Layer

export const photo = (path: string, more: Partial<Photo> = {}): Photo =>
  ({ path, kept: true, problem: null, judged: null, ...more }) as unknown as Photo

/** A sentence of the server that has no values. */
export const said = (text: string) => ({
  text,
  pattern: text,
  values: {},
  code: Object.entries(codes).find(([, t]) => t === text)?.[0] ?? '',
})
