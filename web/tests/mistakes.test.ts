/** Mistakes of the page are told once; numbers that a field does not take as typed are told too. */
import { beforeEach, expect, it, vi } from 'vitest'
import { createApp, h } from 'vue'
import { ElMessage } from 'element-plus'
import { Told } from '@/api/client'
import { boundOf, useBounds } from '@/composables/useBounds'
import { i18n } from '@/i18n'
import { tellMistake, tellMistakes } from '@/lib/mistakes'
import NowhereView from '@/views/NowhereView.vue'
import { mount } from './mount'

vi.mock('element-plus', async (original) => ({ ...(await original<object>()), ElMessage: vi.fn() }))
const message = vi.mocked(ElMessage as unknown as (o: { message: unknown; onClose?: () => void }) => void)

beforeEach(() => {
  message.mock.calls.forEach(([o]) => o.onClose?.())
  message.mockClear()
  vi.spyOn(console, 'error').mockImplementation(() => undefined)
})

it('a mistake of the page is told once until it is read, and what was told already is none', () => {
  tellMistake(new Told('the server said so'))
  tellMistake(new DOMException('newer', 'AbortError'))
  expect(message).not.toHaveBeenCalled()
  tellMistake(new TypeError('x is undefined'))
  tellMistake(new TypeError('y is undefined'))
  expect(message).toHaveBeenCalledTimes(1)
  message.mock.calls[0][0].onClose?.()
  tellMistake(new TypeError('z is undefined'))
  expect(message).toHaveBeenCalledTimes(2)
})

it('a component that fails is told of', () => {
  const app = createApp({
    setup() {
      throw new Error('cannot draw')
    },
  })
  tellMistakes(app)
  app.mount(document.createElement('div'))
  expect(message).toHaveBeenCalledTimes(1)
})

function field(value: string, low: string | null, high: string | null) {
  const one = document.createElement('input')
  one.setAttribute('role', 'spinbutton')
  one.setAttribute('aria-label', 'Shots')
  if (low !== null) one.setAttribute('aria-valuemin', low)
  if (high !== null) one.setAttribute('aria-valuemax', high)
  one.value = value
  return one
}

it('a number beyond its field is told with the bound that is taken', () => {
  expect(boundOf(field('30000', '1', '10'))).toEqual({ bound: 10, most: true })
  expect(boundOf(field('0', '1', '10'))).toEqual({ bound: 1, most: false })
  for (const fits of ['1', '10', '', 'x']) expect(boundOf(field(fits, '1', '10'))).toBeNull()
  expect(boundOf(field('99', null, 'Infinity'))).toBeNull()
  const app = createApp({ setup: () => (useBounds(), () => h('i')) })
  app.use(i18n).mount(document.createElement('div'))
  const typed = document.body.appendChild(field('30000', '1', '10'))
  typed.dispatchEvent(new Event('change', { bubbles: true }))
  expect(message.mock.calls[0][0].message).toBe('Shots: 10 is the most, so 30000 became 10.')
  app.unmount()
})

it('an address that leads nowhere says so', () => {
  const none = mount(NowhereView, { what: 'project' })
  expect(none.host.textContent).toContain('There is no such project')
  none.close()
})
