import type { en } from './en'

/** Languages of the page, by what they are called in themselves. */
export const LANGUAGES = { en: 'English', de: 'Deutsch' } as const
export type Language = keyof typeof LANGUAGES

/** A catalogue: the same keys as the English one. */
export type Catalogue = Texts<typeof en>
type Texts<T> = { [K in keyof T]: T[K] extends string ? string : Texts<T[K]> }
