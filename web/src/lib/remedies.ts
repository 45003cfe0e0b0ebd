import type { Sentence } from '@/i18n/say'

/** Where what a sentence advises is done: the layer, by the codes of the server's sentences. */
export const PLACES: Record<string, string[]> = {
  masks: [
    'mask-the-subject-in-all',
    'no-mask-in-fits-a',
    'the-mask-cannot-be-read',
    'the-mask-is-x-pixels',
    'the-mask-keeps-nothing-so',
    'masks-are-named-like-their',
    'the-background-seems-to-stand',
    'name-problem-2',
  ],
  cameras: [
    'make-the-keep-box-larger',
    'the-keep-box-is-incomplete',
    'choose-the-mat-that-was',
    'take-sharper-or-nearer-photos',
    'no-ground-was-found-up',
  ],
  photos: [
    'bring-some-in-first',
    'bring-some-in-or-shoot',
    'let-them-be-judged-first',
    'let-the-photos-be-judged',
    'leaving-out-what-is-proposed',
    'name-problem',
    'the-lens-darkens-the-corners',
    'add-photos-of-the-same',
  ],
  plan: [
    'take-more-photos-that-overlap',
    'take-more-photos-with-smaller',
    'take-photos-that-overlap-by',
    'walk-round-the-subject-and',
    'move-sideways-by-a-step',
    'move-further-sideways-between-photos',
    'only-of-photos-could-be',
    'tied-in-by-few-points',
    'could-not-be-placed-of',
    'could-not-be-placed-of-nothing',
    'could-not-be-placed-of-they',
    'could-not-be-placed-of-too',
  ],
}

function codesIn(what: Sentence | string): string[] {
  if (typeof what === 'string') return []
  const inner = Object.values(what.values).flatMap((v) =>
    v && typeof v === 'object' && 'pattern' in v ? codesIn(v as Sentence) : [],
  )
  return what.code ? [what.code, ...inner] : inner
}

/** What is said where masks that are suggested would mend it. */
export const BY_MASKS = ['mask-the-subject-in-all', 'the-background-seems-to-stand']

/** Whether masks that are suggested, and a run with them, are what a sentence advises. */
export const masksHelp = (what: Sentence) => codesIn(what).some((c) => BY_MASKS.includes(c))

/** The layer where the advice of a sentence is followed; null where there is none to go to. */
export function placeOf(what: Sentence): string | null {
  const said = codesIn(what)
  return Object.keys(PLACES).find((place) => PLACES[place].some((c) => said.includes(c))) ?? null
}
