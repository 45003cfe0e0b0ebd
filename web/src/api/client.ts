import { ElMessage } from 'element-plus'
import { h } from 'vue'
import { placeOf } from '@/lib/remedies'
import createClient from 'openapi-fetch'
import { i18n } from '@/i18n'
import { say, type Sentence } from '@/i18n/say'
import type { components, paths } from './schema'

export const api = createClient<paths>({
  baseUrl: window.location.origin,
  fetch: (r: Request) => globalThis.fetch(r),
})

type Schemas = components['schemas']
export type Project = Schemas['ProjectOut']
export type Layer = Schemas['LayerOut']
export type Setting = Schemas['SettingOut']
/** A version; its layer tells which figures it has. */
export type Version = Layer['versions'][number]
export type VersionOf<L extends string> = Extract<Version, { layer: L }>
/** Settings to be changed, of any layer. */
export type SettingsChange =
  paths['/api/v1/projects/{project_id}/layers/{layer}/settings']['put']['requestBody']['content']['application/json']
export type Photo = Schemas['PhotoOut']
export type Job = Schemas['JobOut']
export type Scene = Schemas['SceneOut']
export type Brought = Schemas['Brought']
export type CameraOut = Schemas['CameraOut']
/** Kinds of subject, as the alignment takes it. */
export type Kind = 'object' | 'place' | 'facade' | 'interior' | 'strip'
export type PlanIn = Schemas['PlanIn']
export type ToneOut = Schemas['ToneOut']
export type Tone = Required<Schemas['ToneSettings']>
export type TonePreset = Schemas['Preset']
export type Histogram = Schemas['Histogram']
export type Video = Schemas['VideoOut']
export type ChoiceIn = Schemas['ChoiceIn']
export type Chosen = Schemas['ChosenOut']
export type Expected = Schemas['Expected']
export type PlanOut = Schemas['PlanOut']
export type Patches = Schemas['PatchesOut']
export type Masks = Schemas['MasksOut']
export type LensMap = Schemas['LensMapOut']
export type PairOut = Schemas['PairOut']
export type MatchOut = Schemas['MatchOut']
export type SpotOut = Schemas['SpotOut']
export type HeldOut = Schemas['HeldOut']
export type TrackOut = Schemas['TrackOut']
export type MarkHelp = Schemas['MarkHelpOut']
export type MaskEdit = Schemas['Outline'] | Schemas['Brush'] | Schemas['Grow'] | Schemas['Whole']
export type Draft = Schemas['DraftOut']
type WholeEdit =
  paths['/api/v1/projects/{project_id}/draft']['post']['requestBody']['content']['application/json']
type WholeChoice =
  paths['/api/v1/projects/{project_id}/draft/select']['post']['requestBody']['content']['application/json']['where'][number]
/** A step of choosing faces of the model; what has a default may be left out. */
export type FaceChoice = Pick<WholeChoice, 'by'> & Partial<WholeChoice>
type Loose<T> = T extends { kind: unknown }
  ? Pick<T, 'kind'> & Partial<Omit<T, 'kind' | 'where'>> & { where?: FaceChoice[] }
  : never
/** An edit of the model; what has a default may be left out. */
export type Edit = Loose<WholeEdit>
export const whole = (edit: Edit) => edit as WholeEdit
export const wholeChoices = (where: FaceChoice[]) => where as WholeChoice[]
export type Clearing = Schemas['ClearingOut']
/** A way of choosing points, and how it is joined to what is chosen already. */
export type ClearTerm =
  paths['/api/v1/projects/{project_id}/points/select']['post']['requestBody']['content']['application/json']['terms'][number]
type Bare<T> = T extends unknown ? Omit<T, 'how'> : never
/** A way of choosing points by itself. */
export type ClearWay = Bare<ClearTerm>
export type Parcel = Schemas['ParcelOut']

interface Answer<T> {
  data?: T
  error?: unknown
}

/** Code of the refusal of whoever has no session. */
const NO_SESSION = 'say-the-passphrase-or-the'

/** A failure that somebody has been told of already; the foot of the page tells when the server cannot be reached. */
export class Told extends Error {}

/** Say what went wrong, with a button that goes to the layer where it can be mended. */
export function tell(text: string, untilRead = true, place: string | null = null) {
  const { t } = i18n.global
  const shown = ElMessage({
    message: place
      ? h('span', [
          text,
          ' ',
          h('button', { class: 'link', onClick: go }, t('tray.go', { layer: t(`layers.${place}`) })),
        ])
      : text,
    type: 'error',
    duration: untilRead ? 0 : 8000,
    showClose: true,
  })
  function go() {
    shown.close()
    document.dispatchEvent(new CustomEvent('vq-go', { detail: place }))
  }
}

/**
 * The data of an answer; a failure is shown in the server's words and thrown.
 *
 * What somebody did and was not done stays on the screen until it is closed (`untilRead`).
 */
export async function ask<T>(promise: Promise<Answer<T>>, untilRead = false): Promise<T> {
  const { data, error } = await promise.catch((e: unknown) => {
    throw new Told(String(e))
  })
  if (error !== undefined) {
    const text = sentence(error)
    const { said, code } = error as { said?: Sentence; code?: string }
    // from another machine, before its user has said who they are, or when that was long ago: the door asks
    if (code === NO_SESSION) document.dispatchEvent(new Event('vq-door'))
    else tell(text, untilRead, said ? placeOf(said) : null)
    throw new Told(text)
  }
  return data as T
}

/** The sentence in an error body. */
export function sentence(error: unknown): string {
  if (typeof error === 'string') return error
  const { detail, said } = (error ?? {}) as { detail?: unknown; said?: Sentence }
  if (said) return say(said)
  if (typeof detail === 'string') return detail
  if (Array.isArray(detail) && detail.length) {
    const first = detail[0] as { loc?: unknown[]; msg?: string }
    return `${(first.loc ?? []).slice(-1).join('')}: ${first.msg ?? ''}`
  }
  return i18n.global.t('app.silent')
}

export const photoUrl = (id: number, kind: 'thumb' | 'full', path: string, side?: number) =>
  `/api/v1/projects/${id}/photos/${kind}?path=${encodeURIComponent(path)}${side ? `&side=${side}` : ''}`

export const tileUrl = (id: number, path: string, tile: { level: number; x: number; y: number }) =>
  `/api/v1/projects/${id}/photos/tile?path=${encodeURIComponent(path)}&level=${tile.level}&x=${tile.x}&y=${tile.y}`
