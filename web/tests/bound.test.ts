/** What is asked for one project stays with it, whatever is opened meanwhile. */
import { beforeEach, expect, it, vi } from 'vitest'
import { createApp, h } from 'vue'
import { i18n } from '@/i18n'
import { PAUSES, sendMasks, sendSome, useBring } from '@/composables/useBring'
import { PROJECT, projectOf } from '@/stores/project'
import { freshStores, layer, photo, settled } from './mount'

vi.mock('element-plus', async (original) => ({ ...(await original<object>()), ElMessage: vi.fn() }))

beforeEach(() => freshStores())

const answer = (body: unknown, changed?: string) =>
  new Response(JSON.stringify(body), {
    headers: { 'Content-Type': 'application/json', ...(changed ? { 'X-Changed': changed } : {}) },
  })

/** Requests that are answered when the test says so. */
function held() {
  const open: {
    method: string
    path: string
    body: FormData | string | null
    give: (r: Response) => void
  }[] = []
  vi.stubGlobal('fetch', (request: Request | string, init?: RequestInit) => {
    const whole = typeof request === 'string' ? null : request
    return new Promise<Response>((give, no) => {
      whole?.signal.addEventListener('abort', () => no(new DOMException('given up', 'AbortError')))
      open.push({
        method: whole?.method ?? init?.method ?? 'GET',
        path: whole ? new URL(whole.url).pathname : (request as string),
        body: (init?.body as FormData | undefined) ?? null,
        give,
      })
    })
  })
  return open
}

/** Something used as a part of the page about a project uses it. */
function within<T>(project: number, use: () => T): { it: T; close: () => void } {
  let it!: T
  const app = createApp({ setup: () => ((it = use()), () => h('i')) })
  app.use(i18n).provide(PROJECT, project)
  app.mount(document.createElement('div'))
  return { it, close: () => app.unmount() }
}

const files = (n: number, ending = 'jpg') =>
  Array.from({ length: n }, (_, k) => new File([`${k}`], `${k}.${ending}`))

it('files go on into the project they were sent to while another is opened', async () => {
  const paths: string[] = []
  vi.stubGlobal('fetch', async (request: Request | string) => {
    const path = typeof request === 'string' ? request : new URL(request.url).pathname
    paths.push(path)
    await new Promise((done) => setTimeout(done))
    return answer(
      path.endsWith('/photos') && typeof request === 'string' ? { taken: ['x'], known: [], refused: [] } : [],
    )
  })
  const bring = within(1, () => useBring(async () => undefined))
  const sent = bring.it.send(files(20))
  bring.close()
  const other = within(2, () => projectOf(2))
  await sent
  expect(paths.filter((p) => p.startsWith('/api/v1/projects/1/photos')).length).toBeGreaterThanOrEqual(3)
  expect(paths.some((p) => p.startsWith('/api/v1/projects/2'))).toBe(false)
  other.close()
})

it('each file that is refused is named with its reason, and masks go in batches', async () => {
  const sizes: number[] = []
  vi.stubGlobal('fetch', async (_: string, init: RequestInit) => {
    const names = (init.body as FormData).getAll('files').map((f) => (f as File).name)
    sizes.push(names.length)
    const why = { text: 'is no picture', pattern: 'is no picture', values: {} }
    return answer({ taken: names.slice(1), known: [], refused: [{ name: names[0], why }], remarks: [] })
  })
  const masks = await sendMasks(3, files(250, 'png'))
  expect(sizes).toEqual([100, 100, 50])
  expect(masks.taken).toBe(247)
  expect(masks.refused).toEqual(
    ['0.png', '100.png', '200.png'].map((name) => ({ name, why: 'is no picture' })),
  )
  const cut = vi.fn().mockRejectedValue(new Error('gone'))
  vi.stubGlobal('fetch', cut)
  const none = await sendSome('/x', files(3), 2)
  expect(none.refused.map((r) => `${r.name} ${r.why}`)).toEqual(['0.jpg gone', '1.jpg gone', '2.jpg gone'])
})

it('an answer that comes late does not replace a newer one', async () => {
  const open = held()
  const project = projectOf(5)
  const first = project.refresh(['project'])
  await settled()
  const second = project.refresh(['project'])
  await settled()
  const asks = open.filter((r) => r.path === '/api/v1/projects/5')
  expect(asks.length).toBe(2)
  asks[1].give(answer({ id: 5, grade: 'dressed', planned: 0 }))
  await second
  asks[0].give(answer({ id: 5, grade: 'polished', planned: 0 }))
  await first
  await settled()
  expect(project.project?.grade).toBe('dressed')
})

it('what this page changed itself is asked for once, what others change when it is told', async () => {
  const paths: string[] = []
  vi.stubGlobal('fetch', async (request: Request) => {
    paths.push(`${request.method} ${new URL(request.url).pathname}`)
    return request.method === 'PATCH' ? answer(['a.jpg'], 'photos 4') : answer([])
  })
  const project = projectOf(6)
  await project.keep(['a.jpg'], false)
  expect(paths.filter((p) => p === 'GET /api/v1/projects/6/photos').length).toBe(1)
  expect(project.changedElsewhere({ photos: 4 }, { photos: 3 })).toEqual([])
  expect(project.changedElsewhere({ photos: 5 }, { photos: 4 })).toEqual(['project', 'photos'])
  expect(project.changedElsewhere({ photos: 5, layers: 2 }, { photos: 5, layers: 1 })).toEqual(['layers'])
})

it('changes are made in the order they were asked for', async () => {
  const open = held()
  const project = projectOf(8)
  void project.setGrade('polished')
  void project.setGrade('dressed')
  await settled()
  expect(open.filter((r) => r.method === 'PATCH').length).toBe(1)
  open[0].give(answer({}, 'project 1'))
  await settled()
  for (const r of open.filter((x) => x.method === 'GET'))
    r.give(answer(r.path.endsWith('8') ? { planned: 0 } : []))
  await settled()
  expect(open.filter((r) => r.method === 'PATCH').length).toBe(2)
})

it('two projects have lists of their own', () => {
  projectOf(1).layers = [layer({ layer: 'points' })]
  projectOf(2).photos = [photo('a.jpg')]
  expect(projectOf(1).photos).toEqual([])
  expect(projectOf(2).layers).toEqual([])
  expect(projectOf(1).layer('points')?.layer).toBe('points')
})

it('small files go on after a cut, and what is refused is not sent again', async () => {
  PAUSES.splice(0, PAUSES.length, 0, 0)
  let times = 0
  vi.stubGlobal('fetch', async () => {
    times++
    if (times < 3) throw new TypeError('the network is gone')
    return answer({ taken: ['0.jpg'], known: ['1.jpg'], refused: [] })
  })
  expect(await sendSome('/x', files(2), 8)).toMatchObject({ taken: 1, known: 1, refused: [] })
  expect(times).toBe(3)
  times = 0
  vi.stubGlobal('fetch', async () => {
    times++
    return new Response(JSON.stringify({ detail: 'The disk is full.' }), { status: 507 })
  })
  const full = await sendSome('/x', files(2), 8)
  expect(full.refused.map((r) => r.why)).toEqual(['The disk is full.', 'The disk is full.'])
  expect(times).toBe(1)
})
