import { useStorage } from '@vueuse/core'
import { watchEffect } from 'vue'

/** Daylight or dusk, kept between visits. */
export function useTheme() {
  const dusk = useStorage('vq-dusk', false)
  watchEffect(() => document.documentElement.classList.toggle('dark', dusk.value))
  return { dusk }
}
