// What comes first (public/first.js) is painted before the console itself is begun.
const page = window as { first?: Promise<void>; begun?: boolean }
const soon = new Promise<void>((done) => window.setTimeout(done, 500))
void Promise.race([page.first ?? Promise.resolve(), soon]).then(() => {
  const begin = () => {
    page.begun = true
    void import('./main')
  }
  if (document.querySelector('.first')) requestAnimationFrame(() => window.setTimeout(begin))
  else begin()
})
