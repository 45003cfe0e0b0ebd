import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import type { Project, Version } from '@/api/client'
import SettingRow from '@/components/SettingRow.vue'
import Tray from '@/components/Tray.vue'
import { useJobs } from '@/stores/jobs'
import { projectOf } from '@/stores/project'
import { asked, freshStores, job, layer, mount, photo, serverAnswers, setting, settled, said } from './mount'

beforeEach(() => {
  freshStores()
  serverAnswers()
})
afterEach(() => (document.body.innerHTML = ''))

describe('a setting', () => {
  const row = (more: Parameters<typeof setting>[0] = {}) => {
    const [change, reset] = [vi.fn(), vi.fn()]
    return {
      ...mount(SettingRow, { setting: setting(more), onChange: change, onReset: reset }),
      change,
      reset,
    }
  }

  it('has its title as the label of its field, and its unit beside it', async () => {
    const r = row()
    await settled()
    const field = r.find('input')!
    expect(r.find('label')!.getAttribute('for')).toBe(field.id)
    expect(r.find('label')!.textContent).toBe('Neighbours per depth map photos')
    expect(field.getAttribute('aria-label')).toBe('Neighbours per depth map, photos')
    expect(r.find('.unit')!.textContent).toBe('photos')
    r.close()
  })

  it('tells a new value, and goes back to what the grade gives', () => {
    const r = row({ value: 6 })
    const field = r.find('input') as HTMLInputElement
    field.value = '10'
    field.dispatchEvent(new Event('change'))
    expect(r.change).toHaveBeenCalledWith(10)
    expect(r.find('.reset')!.getAttribute('aria-label')).toBe('Neighbours per depth map: back to 8')
    r.find('.reset')!.click()
    expect(r.reset).toHaveBeenCalledTimes(1)
    r.close()
    const same = row()
    expect(same.find('.reset')).toBeNull()
    same.close()
  })

  it('that may be empty is empty when nothing is known, and not 0', () => {
    const r = row({ kind: 'number', may_be_empty: true, value: null, preset: null, unit: 'mm' })
    const field = r.find('input') as HTMLInputElement
    expect([field.value, field.placeholder]).toEqual(['', 'not set'])
    expect(r.find('.reset')).toBeNull()
    r.close()
  })
})

describe('the tray', () => {
  function open(
    state: { settings?: ReturnType<typeof setting>[]; version?: Partial<Version>; photos?: number } = {},
  ) {
    const project = projectOf(1)
    project.project = { id: 1, name: 'Well-head', grade: 'dressed' } as Project
    project.photos = Array.from({ length: state.photos ?? 3 }, (_, k) => photo(`${k}.jpg`))
    const versions = state.version
      ? [{ number: 1, findings: [], seconds: 61, figures: {}, ...state.version } as unknown as Version]
      : []
    project.layers = [layer({ settings: state.settings ?? [], versions, number: versions.length ? 1 : null })]
    return mount(Tray, { layer: 'points', compared: null })
  }

  it('shows the settings that matter, and the others when asked', async () => {
    const tray = open({
      settings: [setting(), setting({ name: 'keep', title: 'Best neighbours per pixel', main: false })],
    })
    expect(tray.all('label').map((l) => l.textContent)).toEqual(['Neighbours per depth map photos'])
    const more = tray.button('More settings')!
    expect(more.getAttribute('aria-expanded')).toBe('false')
    more.click()
    await settled()
    expect(tray.all('label')).toHaveLength(2)
    tray.close()
  })

  it('asks the server for what is changed, given back and run', async () => {
    const tray = open({ settings: [setting({ value: 5 })] })
    const field = tray.find('input') as HTMLInputElement
    field.value = '7'
    field.dispatchEvent(new Event('change'))
    await settled()
    expect(asked[0]).toEqual({
      method: 'PUT',
      path: '/api/v1/projects/1/layers/points/settings',
      body: { sources: 7 },
    })
    tray.close()
    serverAnswers()
    const again = open({ settings: [setting({ value: 5 })] })
    again.find('.reset')!.click()
    await settled()
    expect(asked[0].method + asked[0].path).toBe('DELETE/api/v1/projects/1/layers/points/settings/sources')
    again.close()
    serverAnswers()
    const third = open()
    third.button('Run Points')!.click()
    await settled()
    expect(asked[0].method + asked[0].path).toBe('POST/api/v1/projects/1/layers/points/run')
    third.close()
  })

  it('runs nothing without photos or while the project is at work', async () => {
    const none = open({ photos: 0 })
    expect((none.find('.go') as HTMLButtonElement).disabled).toBe(true)
    none.close()
    useJobs().take([job()])
    const busy = open()
    expect((busy.find('.go') as HTMLButtonElement).disabled).toBe(true)
    busy.close()
    useJobs().take([job({ project_id: 2 })])
    const other = open()
    expect((other.find('.go') as HTMLButtonElement).disabled).toBe(false)
    other.close()
  })

  it('says that nothing is to be remarked only where something was looked at', () => {
    const before = open()
    expect(before.host.textContent).not.toContain('No findings')
    before.close()
    const after = open({ version: {} })
    expect(after.host.textContent).toContain('No findings')
    after.close()
    const found = open({ version: { findings: [said('2 photos could not be placed.')] } })
    expect(found.all('.card').map((c) => c.textContent.trim())).toEqual(['2 photos could not be placed.'])
    found.close()
  })
})
