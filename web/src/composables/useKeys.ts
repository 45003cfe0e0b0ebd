import { useLocalStorage } from '@vueuse/core'
import { onBeforeUnmount, onMounted, shallowReactive } from 'vue'
import { isSingle, isTaken, matches, type Binding } from '@/lib/keys'

interface Table {
  title: string
  rows: Binding[]
}

/** All that is bound at present, as the sheet of keys shows it. */
export const tables = shallowReactive<Table[]>([])

/** Whether letters and digits alone do anything. */
export const singles = useLocalStorage('single-keys', true)

/** Bind keys while a component is there. `title` is what they belong to, a key of the catalogue. */
export function useKeys(title: string, rows: Binding[]) {
  const table = { title, rows }
  function press(e: KeyboardEvent) {
    if (e.defaultPrevented) return
    const taken = isTaken(e.target)
    const row = rows.find((r) => matches(r.keys, e) && (r.typing || !taken))
    if (!row || (isSingle(row.keys) && !singles.value)) return
    e.preventDefault()
    row.act()
  }
  onMounted(() => {
    tables.push(table)
    window.addEventListener('keydown', press)
  })
  onBeforeUnmount(() => {
    tables.splice(tables.indexOf(table), 1)
    window.removeEventListener('keydown', press)
  })
}
