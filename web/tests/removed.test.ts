import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import codes from '../../src/vast_quarry/words/codes.json'
import { ask, type Project, type Version } from '@/api/client'
import NotesSheet from '@/components/NotesSheet.vue'
import PickedStrip from '@/components/photos/PickedStrip.vue'
import SpaceSheet from '@/components/SpaceSheet.vue'
import VersionList from '@/components/VersionList.vue'
import SignInView from '@/views/SignInView.vue'
import { projectOf } from '@/stores/project'
import { asked, freshStores, layer, mount, photo, said, serverAnswers, settled } from './mount'

beforeEach(() => {
  freshStores()
  serverAnswers()
})
afterEach(() => {
  document.body.innerHTML = ''
  vi.unstubAllGlobals()
})
const project = { id: 1, name: 'Well-head', notes: '# Before\n<b>raw</b> ![x](http://a/b.png)' } as Project
const last = () => `${asked.at(-1)!.method} ${asked.at(-1)!.path}`
const sent = (method: string) => asked.filter((a) => a.method === method)

describe('a version', () => {
  const version = (number: number, more: Partial<Version> = {}) =>
    ({
      layer: 'points',
      number,
      made: '2026-11-20T10:00:00+00:00',
      seconds: 62,
      bytes: 5e6,
      name: '',
      note: '',
      grade: 'dressed',
      changed: [],
      ...more,
    }) as unknown as Version
  const list = () => {
    const versions = [
      version(1, { name: 'coarse', changed: [{ name: 'sources', title: 'Neighbours', value: 4 }] }),
      version(2),
    ]
    projectOf(1).layers = [layer({ versions, number: 2 })]
    return mount(VersionList, { layer: 'points', compared: null })
  }

  it('says its grade, time, size and what was changed, when it is opened', async () => {
    const r = list()
    r.button('Points 1')!.click()
    await settled()
    const told = r.find('.more')!.textContent!
    expect(told).toContain('Dressed')
    expect(told).toContain('5.0 MB')
    expect(told).toContain('Neighbours: 4')
    expect((r.find('.more input') as HTMLInputElement).value).toBe('coarse')
    r.close()
  })

  it('is given a name', async () => {
    const r = list()
    r.button('Points 2')!.click()
    await settled()
    const field = r.find('.more input') as HTMLInputElement
    field.value = 'fine'
    field.dispatchEvent(new Event('input'))
    field.dispatchEvent(new Event('change'))
    await settled()
    expect(sent('PATCH').map((a) => [a.path, a.body])).toEqual([
      ['/api/v1/projects/1/layers/points/versions/2', { name: 'fine', note: '' }],
    ])
    r.close()
  })

  it('is removed only after what goes with it was told', async () => {
    const r = list()
    serverAnswers((a) =>
      a.path.endsWith('made-from-it') ? [{ layer: 'surface', number: 3, bytes: 1e6 }] : undefined,
    )
    r.button('Points 1')!.click()
    await settled()
    r.find('.more')!.querySelectorAll('button')[0].click()
    await settled()
    await vi.waitFor(() => expect(document.body.textContent).toContain('Surface 3 was made from it'))
    expect(document.body.textContent).toContain('6.0 MB')
    expect(sent('DELETE')).toEqual([])
    const yes = [...document.querySelectorAll<HTMLButtonElement>('.el-message-box button')].at(-1)!
    yes.click()
    await vi.waitFor(() =>
      expect(sent('DELETE').map((a) => a.path)).toEqual(['/api/v1/projects/1/layers/points/versions/1']),
    )
    r.close()
  })
})

describe('the space of a project', () => {
  it('tells what could go and lets one thing go', async () => {
    serverAnswers((a) =>
      a.path.endsWith('/space')
        ? { total: 9e6, cache: 2e6, runs: 0, versions: 3e6, version_names: ['points 1'], trash: 1e6 }
        : a.path.endsWith('/trash')
          ? {
              items: [
                {
                  number: 4,
                  kind: 'versions',
                  names: ['points 3'],
                  bytes: 1e6,
                  removed: '2026-11-20T10:00:00+00:00',
                },
              ],
              bytes: 1e6,
              days: 30,
            }
          : 5,
    )
    const changed = vi.fn()
    const r = mount(SpaceSheet, { project, modelValue: true, onChanged: changed })
    await settled()
    await settled()
    const text = document.body.textContent!
    expect(text).toContain('9.0 MB in all')
    expect(text).toContain('after 30 days')
    expect(text).toContain('Points 3')
    expect(text).not.toContain('Stopped runs')
    const buttons = [...document.querySelectorAll<HTMLButtonElement>('.el-dialog button')]
    buttons.find((b) => b.textContent!.includes('Into the trash'))!.click()
    await settled()
    expect(sent('POST').map((a) => a.body)).toEqual([{ what: ['versions'] }])
    expect(changed).toHaveBeenCalledTimes(1)
    buttons.find((b) => b.textContent!.includes('Bring back'))!.click()
    await settled()
    expect(sent('POST').at(-1)!.path).toBe('/api/v1/projects/1/trash/4/bring-back')
    r.close()
  })
})

describe('notes', () => {
  it('are shown as Markdown, without HTML and without pictures from elsewhere', async () => {
    const r = mount(NotesSheet, { project, modelValue: true })
    await settled()
    const read = document.querySelector('.read')!
    expect(read.querySelector('h1')!.textContent).toBe('Before')
    expect(read.querySelector('b, img')).toBeNull()
    const field = document.querySelector('textarea')!
    field.value = 'north side'
    field.dispatchEvent(new Event('input'))
    await settled()
    ;[...document.querySelectorAll('button')].find((b) => b.textContent === 'Keep')!.click()
    await settled()
    expect([last(), asked.at(-1)!.body]).toEqual(['PATCH /api/v1/projects/1', { notes: 'north side' }])
    r.close()
  })
})

describe('picked photos', () => {
  const strip = (paths: string[], set: string | null = null) => {
    projectOf(1).photos = [photo('a.jpg'), photo('b.jpg', { kept: false })]
    const done = vi.fn()
    return { ...mount(PickedStrip, { paths, set, onDone: done }), done }
  }

  it('are left out, put into a set and removed together', async () => {
    const r = strip(['a.jpg', 'b.jpg'])
    expect(r.find('b')!.textContent).toBe('2 photos picked')
    r.button('Leave out')!.click()
    await settled()
    expect(sent('PATCH')[0].body).toMatchObject({ paths: ['a.jpg', 'b.jpg'], kept: false })
    const field = r.find('input') as HTMLInputElement
    field.value = ' upper ring '
    field.dispatchEvent(new Event('input'))
    field.dispatchEvent(new KeyboardEvent('keyup', { key: 'Enter' }))
    await settled()
    expect(sent('PUT')[0].body).toEqual({ paths: ['a.jpg', 'b.jpg'], name: 'upper ring' })
    expect(r.done).toHaveBeenLastCalledWith('upper ring')
    r.button('Remove')!.click()
    await settled()
    expect(sent('POST').map((a) => a.path)).toEqual(['/api/v1/projects/1/photos/remove'])
    r.close()
  })

  it('are passed on by a form, however many they are', async () => {
    const forms: string[][] = []
    vi.spyOn(HTMLFormElement.prototype, 'submit').mockImplementation(function (this: HTMLFormElement) {
      forms.push([
        this.method,
        new URL(this.action).pathname,
        ...[...this.querySelectorAll('textarea')].map((f) => f.value),
      ])
    })
    const r = strip(['a.jpg', 'b.jpg'])
    r.button('Save as ZIP')!.click()
    await settled()
    ;[...document.querySelectorAll('button')].find((b) => b.textContent!.includes('Evened out'))!.click()
    expect(forms).toEqual([['post', '/api/v1/projects/1/photos/zip', 'a.jpg\nb.jpg', 'true']])
    r.close()
  })
})

describe('the door', () => {
  it('says why not, and does not keep what was typed', async () => {
    vi.stubGlobal('fetch', async () => {
      const body = { detail: 'x', said: said('That is not the passphrase.') }
      return new Response(JSON.stringify(body), {
        status: 401,
        headers: { 'Content-Type': 'application/json' },
      })
    })
    const r = mount(SignInView, {})
    const field = r.find('input') as HTMLInputElement
    field.value = 'guess guess'
    field.dispatchEvent(new Event('input'))
    await settled()
    r.find('form')!.dispatchEvent(new Event('submit'))
    await settled()
    await settled()
    expect(r.find('[role=alert]')!.textContent).toBe('That is not the passphrase.')
    expect(field.value).toBe('')
    r.close()
  })

  it('is asked for when a session is over, and nothing else is said of that', async () => {
    const asks = vi.fn()
    document.addEventListener('vq-door', asks)
    const code = 'say-the-passphrase-or-the'
    expect(code in codes).toBe(true)
    await expect(ask(Promise.resolve({ error: { detail: 'x', code } }))).rejects.toThrow()
    expect(asks).toHaveBeenCalledTimes(1)
    expect(document.querySelector('.el-message')).toBeNull()
  })
})
