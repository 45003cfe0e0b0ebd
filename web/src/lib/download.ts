/** Save what is at an address, under the name the server gives it or another. */
export function download(href: string, name: string) {
  const a = document.createElement('a')
  a.href = href
  a.download = name
  a.click()
}

/** Save what the server answers to a form: what is asked for may be long, and the browser writes it as it comes. */
export function postForm(action: string, fields: Record<string, string>) {
  const form = document.createElement('form')
  form.method = 'post'
  form.action = action
  form.enctype = 'multipart/form-data'
  for (const [name, value] of Object.entries(fields)) {
    const field = document.createElement('textarea')
    field.name = name
    field.value = value
    form.append(field)
  }
  form.hidden = true
  document.body.append(form)
  form.submit()
  form.remove()
}
