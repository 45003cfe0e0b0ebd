import { Upload, type DetailedError } from 'tus-js-client'
import { sentence } from '@/api/client'

/** Send a file in pieces; one that was cut, even by closing the page, goes on where it was. */
export function upload(endpoint: string, file: File, progress: (share: number) => void): Promise<void> {
  return new Promise((done, failed) => {
    const sending = new Upload(file, {
      endpoint: new URL(endpoint, window.location.origin).href,
      chunkSize: 16_000_000,
      retryDelays: [0, 1000, 3000, 5000, 10_000],
      metadata: { filename: file.name },
      removeFingerprintOnSuccess: true,
      onProgress: (sent, total) => progress(total ? sent / total : 0),
      onSuccess: () => done(),
      onError: (error) => failed(new Error(said(error))),
      // what the server refuses in words is not sent again
      onShouldRetry: (error) => ![413, 415, 422].includes(error.originalResponse?.getStatus() ?? 0),
    })
    void sending.findPreviousUploads().then((before) => {
      if (before.length) sending.resumeFromPreviousUpload(before[0])
      sending.start()
    })
  })
}

/** The server's own words where there are some. */
function said(error: Error | DetailedError): string {
  const body = 'originalResponse' in error ? error.originalResponse?.getBody() : undefined
  try {
    return body ? sentence(JSON.parse(body)) : error.message
  } catch {
    return body || error.message
  }
}
