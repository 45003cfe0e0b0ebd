import { sentence } from '@/api/client'

/** Send files as a form; an error in the server's own words when they are refused. */
export async function sendFiles<T>(url: string, name: string, files: Iterable<File>): Promise<T> {
  const body = new FormData()
  for (const f of files) body.append(name, f, f.name)
  const answer = await fetch(url, { method: 'POST', body })
  const json: unknown = await answer.json().catch(() => null)
  if (!answer.ok) throw new Error(sentence(json))
  return json as T
}
