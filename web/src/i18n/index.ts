import { createI18n } from 'vue-i18n'
import { de } from './de'
import { en } from './en'
import { type Catalogue, type Language, LANGUAGES } from './languages'
import { speak } from './numbers'
import { compiled } from './patterns'

/** The language chosen before, or the browser's where there is a catalogue for it. */
function first(): Language {
  const known = Object.keys(LANGUAGES) as Language[]
  const wanted = [localStorage.getItem('vq-language'), ...navigator.languages.map((l) => l.slice(0, 2))]
  return known.find((l) => l === wanted.find((w) => known.includes(w as Language))) ?? 'en'
}

export const i18n = createI18n<[Catalogue], Language, false>({
  legacy: false,
  locale: first(),
  fallbackLocale: 'en',
  messages: { en, de },
  messageCompiler: (message, { locale }) => {
    const fill = compiled(message as string, locale)
    return (context: { values: Record<string, unknown> }) => fill(context.values)
  },
})

/** Speak another language from now on, and on the next visit. */
export function setLanguage(language: Language) {
  i18n.global.locale.value = language
  localStorage.setItem('vq-language', language)
  document.documentElement.lang = language
  speak(language)
}
setLanguage(i18n.global.locale.value)
