import { ElMessage } from 'element-plus'
import { ref } from 'vue'
import { useI18n } from 'vue-i18n'
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

/** Bringing files in: many small ones a few at a time, large ones in pieces. `filmed` is called when a video has come. */
export function useBring(filmed: () => Promise<void>) {
  const { t } = useI18n()
  const project = useProject()
  const sending = ref<[number, number] | null>(null)
  const share = ref<number | null>(null)

  async function sendLarge(file: File, refused: string[]): Promise<number> {
    try {
      await upload(`/api/projects/${project.id}/uploads`, file, (s) => (share.value = s))
    } catch (error) {
      refused.push(`${file.name}: ${(error as Error).message}`)
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
    const refused: string[] = []
    const large = (f: File) => VIDEO.test(f.name) || f.size > LARGE
    for (const file of list.filter(large)) taken += await sendLarge(file, refused)
    list = list.filter((f) => !large(f))
    sending.value = [0, list.length]
    for (let k = 0; k < list.length; k += 8) {
      const few = list.slice(k, k + 8)
      try {
        const json = await sendFiles<{ taken: string[]; refused: string[] }>(
          `/api/projects/${project.id}/photos`,
          'files',
          few,
        )
        taken += json.taken.length
        refused.push(...json.refused)
      } catch (error) {
        refused.push(...few.map((f) => `${f.name}: ${(error as Error).message}`))
      }
      sending.value = [Math.min(k + 8, list.length), list.length]
    }
    sending.value = null
    if (taken) ElMessage({ message: t('photos.taken', { n: taken }), type: 'success' })
    if (refused.length)
      ElMessage({
        message: t('photos.refused', { n: refused.length, first: refused[0] }),
        type: 'warning',
        duration: 9000,
        showClose: true,
      })
    await project.refresh()
  }

  return { sending, share, send }
}
