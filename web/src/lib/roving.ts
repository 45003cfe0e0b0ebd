/** In a group of radio buttons only the chosen one is reached by Tab; arrows, Home and End choose another and go there. */
export function byArrows(e: KeyboardEvent) {
  const all = [...(e.currentTarget as HTMLElement).querySelectorAll<HTMLElement>('[role="radio"]')]
  const at = all.indexOf(e.target as HTMLElement)
  const step = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[e.key]
  const to =
    e.key === 'Home'
      ? 0
      : e.key === 'End'
        ? all.length - 1
        : step
          ? (at + step + all.length) % all.length
          : -1
  if (at < 0 || to < 0) return
  e.preventDefault()
  all[to].focus()
  all[to].click()
}
