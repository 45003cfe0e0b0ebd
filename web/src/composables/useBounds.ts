import { useEventListener } from '@vueuse/core'
import { ElMessage } from 'element-plus'
import { useI18n } from 'vue-i18n'
import { number } from '@/i18n/numbers'

/** Of a number that was typed beyond what its field takes, the bound that is taken in its place. */
export function boundOf(field: HTMLInputElement): { bound: number; most: boolean } | null {
  const typed = Number(field.value)
  const low = field.getAttribute('aria-valuemin')
  const high = field.getAttribute('aria-valuemax')
  if (!field.value.trim() || !Number.isFinite(typed)) return null
  if (high !== null && Number.isFinite(Number(high)) && typed > Number(high))
    return { bound: Number(high), most: true }
  if (low !== null && Number.isFinite(Number(low)) && typed < Number(low))
    return { bound: Number(low), most: false }
  return null
}

/** Say so whenever a number that is typed is not taken as it is: fields take their bound in its place. */
export function useBounds() {
  const { t } = useI18n()
  useEventListener(
    document,
    'change',
    (e) => {
      const field = e.target
      if (!(field instanceof HTMLInputElement) || field.getAttribute('role') !== 'spinbutton') return
      const found = boundOf(field)
      if (!found) return
      const said = {
        typed: field.value,
        bound: number(found.bound),
        name: field.getAttribute('aria-label') ?? '',
      }
      ElMessage({
        message: t(found.most ? 'setting.most' : 'setting.least', said),
        type: 'warning',
        duration: 6000,
        showClose: true,
      })
    },
    { capture: true },
  )
}
