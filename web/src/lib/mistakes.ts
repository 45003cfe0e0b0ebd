import { ElMessage } from 'element-plus'
import { h, type App } from 'vue'
import { Told } from '@/api/client'
import { i18n } from '@/i18n'

let shown = false

/** Say that the page itself made a mistake, once until it is read, and offer to begin afresh. */
export function tellMistake(error: unknown) {
  // what somebody was told of is no mistake of the page; neither is what was given up for something newer
  if (error instanceof Told || (error as Error | null)?.name === 'AbortError') return
  console.error(error)
  if (shown) return
  shown = true
  const { t } = i18n.global
  const what = error instanceof Error ? `${error.name}: ${error.message}` : String(error)
  ElMessage({
    message: h('span', [
      t('app.mistake', { what: what.slice(0, 160) }),
      ' ',
      h('button', { class: 'link', onClick: () => window.location.reload() }, t('app.reload')),
    ]),
    type: 'error',
    duration: 0,
    showClose: true,
    onClose: () => (shown = false),
  })
}

/** Have every mistake of the page told that nothing else deals with. */
export function tellMistakes(app: App) {
  app.config.errorHandler = (error) => tellMistake(error)
  window.addEventListener('unhandledrejection', (e) => {
    e.preventDefault()
    tellMistake(e.reason)
  })
  window.addEventListener('error', (e) => {
    if (e.error) tellMistake(e.error)
  })
}
