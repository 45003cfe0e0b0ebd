/** Save what is at an address, under the name the server gives it or another. */
export function download(href: string, name: string) {
  const a = document.createElement('a')
  a.href = href
  a.download = name
  a.click()
}
