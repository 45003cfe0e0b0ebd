import type { Sentence } from '@/i18n/say'

/** Where what a sentence advises is done: the layer, by the beginnings of the server's patterns. */
const PLACES: [string, string[]][] = [
  [
    'masks',
    [
      'Mask the subject in all photos',
      'No mask in ',
      'The mask ',
      'Masks are ',
      'The background seems to stand still',
      '{name}: {problem}',
    ],
  ],
  [
    'cameras',
    [
      'Make the keep box larger',
      'The keep box is incomplete',
      'Choose the mat that was printed',
      'Take sharper or nearer photos of it',
      'No ground was found',
    ],
  ],
  [
    'photos',
    [
      'Bring some in',
      'Let them be judged first',
      'Let the photos be judged first',
      'Leaving out what is proposed leaves a gap',
      '{name} {problem}',
      'The lens darkens the corners',
      'Add photos of the same subject',
    ],
  ],
  [
    'plan',
    [
      'Take more photos',
      'Take photos that overlap',
      'Walk round the subject',
      'Move sideways',
      'Move further sideways',
      'Only {placed} of {all} photos',
      '{photos} {count, plural, one {is} other {are}} tied in',
      '{photos} could not be placed',
    ],
  ],
]

function patternsIn(what: Sentence | string): string[] {
  if (typeof what === 'string') return [what]
  const inner = Object.values(what.values).flatMap((v) =>
    typeof v === 'string' || (v && typeof v === 'object' && 'pattern' in v)
      ? patternsIn(v as Sentence | string)
      : [],
  )
  return [what.pattern, ...inner]
}

/** Beginnings of what is said where masks that are suggested would mend it. */
const BY_MASKS = ['Mask the subject in all photos', 'The background seems to stand still']

/** Whether masks that are suggested, and a run with them, are what a sentence advises. */
export const masksHelp = (what: Sentence) =>
  patternsIn(what).some((p) => BY_MASKS.some((s) => p.startsWith(s)))

/** The layer where the advice of a sentence is followed; null where there is none to go to. */
export function placeOf(what: Sentence): string | null {
  const said = patternsIn(what)
  return PLACES.find(([, starts]) => said.some((p) => starts.some((s) => p.startsWith(s))))?.[0] ?? null
}
