// Sets theme and accent before the first paint, so that a dark room stays dark.
(function () {
  var choice = null
  var accent = null
  try { choice = localStorage.getItem('theme'); accent = localStorage.getItem('accent') } catch (e) { /* storage may be closed to us */ }
  var dark = choice === 'dark' || (choice !== 'light' && matchMedia('(prefers-color-scheme: dark)').matches)
  document.documentElement.setAttribute('data-bs-theme', dark ? 'dark' : 'light')
  document.documentElement.setAttribute('data-accent', accent || 'ember')
})()
