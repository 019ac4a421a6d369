// Sets the theme before the first paint, so that a dark room stays dark.
(function () {
  var choice = null
  try { choice = localStorage.getItem('theme') } catch (e) { /* storage may be closed to us */ }
  var dark = choice === 'dark' || (choice !== 'light' && matchMedia('(prefers-color-scheme: dark)').matches)
  document.documentElement.setAttribute('data-bs-theme', dark ? 'dark' : 'light')
})()
