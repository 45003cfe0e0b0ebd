import { ElMessage } from 'element-plus'
import { h, ref } from 'vue'
import { useI18n } from 'vue-i18n'
import type { Brought } from '@/api/client'
import { say } from '@/i18n/say'
import { sendFiles } from '@/lib/send'
import { upload } from '@/lib/upload'
import { useProject } from '@/stores/project'

const VIDEO = /\.(mp4|mov|m4v|avi|mkv|webm|mpe?g|m2?ts|3gp|wmv)$/i
/** Larger files go in pieces: a cut is mended, and what has come is not sent again. */
const LARGE = 8_000_000

/** Files of a drop, folders too. */
export async function filesOf(e: DragEvent): Promise<File[]> {
  const entries = [...(e.dataTransfer?.items ?? [])]
    .map((i) => i.webkitGetAsEntry())
    .filter((x) => x !== null)
  const found: File[] = []
  const walk = async (entry: FileSystemEntry): Promise<void> => {
    if (entry.isFile) {
      found.push(await new Promise<File>((ok, no) => (entry as FileSystemFileEntry).file(ok, no)))
      return
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader()
    for (;;) {
      const part = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no))
      if (!part.length) return
      for (const x of part) await walk(x)
    }
  }
  for (const entry of entries) await walk(entry)
  return found
}

/** A file that was not taken, and why. */
export interface RefusedFile {
  name: string
  why: string
}

/** Files sent in one request, at most: a form takes a thousand, and a cut loses little. */
const AT_ONCE = 8
const MASKS_AT_ONCE = 100

/** Pauses after which a request that was cut is made again (ms). */
export const PAUSES = [500, 2000, 5000, 10_000]

/** Ask again after a cut: what had come is known by what is in it, and not taken twice. What the server refuses is not asked again. */
async function again<T>(request: () => Promise<T>): Promise<T> {
  for (const pause of PAUSES) {
    try {
      return await request()
    } catch (error) {
      // only a connection that broke fails so
      if (!(error instanceof TypeError)) throw error
      await new Promise((done) => setTimeout(done, pause))
    }
  }
  return request()
}

/** Send small files a few at a time; what became of them, each by its name. */
export async function sendSome(
  url: string,
  list: File[],
  atOnce: number,
  progress: (done: number) => void = () => undefined,
) {
  const out = { taken: 0, known: 0, refused: [] as RefusedFile[], remarks: [] as string[] }
  for (let k = 0; k < list.length; k += atOnce) {
    const few = list.slice(k, k + atOnce)
    try {
      const told = await again(() => sendFiles<Brought>(url, 'files', few))
      out.taken += told.taken?.length ?? 0
      out.known += told.known?.length ?? 0
      out.refused.push(...(told.refused ?? []).map((r) => ({ name: r.name, why: say(r.why) })))
      out.remarks.push(...(told.remarks ?? []).map((r) => say(r)))
    } catch (error) {
      out.refused.push(...few.map((f) => ({ name: f.name, why: (error as Error).message })))
    }
    progress(Math.min(k + atOnce, list.length))
  }
  return out
}

/** Name files that were refused, each with its reason; those beyond the first few are counted. */
export function tellRefused(
  t: (key: string, named: Record<string, unknown>) => string,
  refused: RefusedFile[],
) {
  if (!refused.length) return
  const lines = refused
    .slice(0, 6)
    .map((r) => h('li', r.why.startsWith(r.name) ? r.why : `${r.name}: ${r.why}`))
  if (refused.length > 6) lines.push(h('li', t('photos.andMore', { n: refused.length - 6 })))
  ElMessage({
    message: h('div', [t('photos.refused', { n: refused.length }), h('ul', { class: 'refused' }, lines)]),
    type: 'warning',
    duration: 0,
    showClose: true,
  })
}

/** Bringing files in: many small ones a few at a time, large ones in pieces. `filmed` is called when a video has come. */
export function useBring(filmed: () => Promise<void>) {
  const { t } = useI18n()
  const project = useProject()
  const sending = ref<[number, number] | null>(null)
  const share = ref<number | null>(null)

  async function sendLarge(file: File, refused: RefusedFile[]): Promise<number> {
    try {
      await upload(`/api/v1/projects/${project.id}/uploads`, file, (s) => (share.value = s))
    } catch (error) {
      refused.push({ name: file.name, why: (error as Error).message })
      return 0
    } finally {
      share.value = null
    }
    if (!VIDEO.test(file.name)) return 1
    await filmed()
    return 0
  }

  /** Upload a few files at a time, so that thousands go through and a cut loses little. */
  async function send(list: File[]) {
    let taken = 0
    const refused: RefusedFile[] = []
    const large = (f: File) => VIDEO.test(f.name) || f.size > LARGE
    for (const file of list.filter(large)) taken += await sendLarge(file, refused)
    const small = list.filter((f) => !large(f))
    sending.value = [0, small.length]
    const told = await sendSome(`/api/v1/projects/${project.id}/photos`, small, AT_ONCE, (n) => {
      sending.value = [n, small.length]
    })
    sending.value = null
    taken += told.taken
    if (taken || told.known)
      ElMessage({ message: t('photos.taken', { n: taken, known: told.known }), type: 'success' })
    tellRefused(t, [...refused, ...told.refused])
    await project.refresh()
  }

  return { sending, share, send }
}

/** Send mask files, named like their photos; what became of them. */
export const sendMasks = (project: number, list: File[]) =>
  sendSome(`/api/v1/projects/${project}/photos/masks`, list, MASKS_AT_ONCE)
