/** A key, or several held together, and what it does. */
export interface Binding {
  /** As it is written on the sheet of keys: `Ctrl+Z`, `Delete`, `F`. Ctrl is also the command key of other machines. */
  keys: string
  /** Key of the sentence that says what it does, in the catalogue. */
  says: string
  act: () => unknown
  /** Whether it also counts while something is typed. */
  typing?: boolean
}

type Pressed = Pick<KeyboardEvent, 'key' | 'ctrlKey' | 'metaKey' | 'altKey' | 'shiftKey'>

/** Whether a binding is a letter or a digit alone: what a voice or a stick types by accident, and can be switched off. */
export const isSingle = (keys: string) => /^[\p{L}\p{N}]$/u.test(keys)

/** Whether what was pressed is what a binding names. */
export function matches(keys: string, e: Pressed): boolean {
  const parts = keys.split('+')
  const last = parts.pop()!
  if (parts.includes('Ctrl') !== (e.ctrlKey || e.metaKey) || e.altKey) return false
  // a sign such as ? may need Shift on one keyboard and none on another
  const named = last.length > 1 || isSingle(last)
  if (named && parts.includes('Shift') !== e.shiftKey) return false
  return e.key.toLowerCase() === last.toLowerCase()
}

/** Whether keys belong to what is typed into, or to a dialog over the page. */
export function isTaken(target: EventTarget | null): boolean {
  return (
    target instanceof Element && !!target.closest('input, textarea, select, [contenteditable], [role=dialog]')
  )
}
