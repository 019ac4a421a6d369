/** Lets the browser keep something as a file. */
export function saveFile(name: string, what: Blob) {
  const a = document.createElement('a')
  a.href = URL.createObjectURL(what)
  a.download = name
  a.click()
  window.setTimeout(() => URL.revokeObjectURL(a.href), 60_000)
}
