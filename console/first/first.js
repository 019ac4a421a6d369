// What comes first, before the console itself is there: on Now the values that this device saw last, with their age, or
// those that the hub tells meanwhile. It also asks the hub what the console will want. It is part of the page, so that nothing has to
// be fetched before it, and fetches the console when it has been painted.
(function () {
  var later = [] // what the page of the console names, as [tag, attributes]; the build puts it here
  function begin() {
    if (window.begun) return
    window.begun = true
    later.forEach(function (x) {
      var e = document.createElement(x[0])
      for (var name in x[1]) e.setAttribute(name, x[1][name])
      document.head.appendChild(e)
    })
  }
  if (location.pathname.indexOf('/wall') === 0 || location.pathname.indexOf('/letter') === 0) return begin()
  function ask() {
    var early = (window.early = { setup: fetch('/api/v1/setup'), session: fetch('/api/v1/session'), now: fetch('/api/v1/now') })
    for (var k in early) early[k].catch(function () { /* the console says so itself */ })
    return early
  }
  if (location.pathname !== '/') {
    ask()
    return begin()
  }
  function put(to, tag, name, text) {
    var e = document.createElement(tag)
    if (name) e.className = name
    if (text) e.textContent = text
    to.appendChild(e)
    return e
  }
  function show(hub, age, places) {
    if (window.begun) return
    var app = document.getElementById('app')
    app.textContent = ''
    var main = put(app, 'main', 'first')
    put(main, 'p', '', hub + age)
    // What is in sight at first, by the screen: to ask for the window's size is to have an empty page laid out.
    var room = Math.ceil(screen.height / 64) * Math.max(2, Math.floor(Math.min(screen.width, 1240) / 150))
    places.forEach(function (place) {
      if (room <= 0) return
      var sheet = put(main, 'section')
      put(sheet, 'h2', '', place.name)
      var list = put(sheet, 'div', 'firsts')
      place.items.forEach(function (x) {
        if (room-- <= 0) return
        var cell = put(list, 'div', 'reading')
        put(cell, 'span', '', x[0])
        put(cell, 'b', 'value', x[1])
      })
    })
  }
  function said(s, value) {
    if (typeof value === 'boolean') return value ? 'on' : 'off'
    if (typeof value !== 'number') return value
    return value.toFixed(s.decimals) + ' ' + ({ Cel: '°C', '[degF]': '°F', '[ppm]': 'ppm', '[pH]': 'pH' }[s.unit] || s.unit)
  }
  var kept = null
  try { kept = JSON.parse(localStorage.getItem('first-view')) } catch (e) { /* then there is nothing */ }
  if (kept) {
    var min = Math.max(0, Math.round((Date.now() - kept.at) / 60000))
    show(kept.hub, ', as it was ' + (min < 1 ? 'a moment' : min < 120 ? min + ' min' : Math.round(min / 60) + ' h') + ' ago', kept.places)
    requestAnimationFrame(function () { setTimeout(function () { ask(); begin() }) }) // when it is painted
    return
  }
  setTimeout(begin, 500)
  ask().now.then(function (r) { return r.ok ? r.clone().json() : null }).then(function (snap) {
    if (!snap) return begin()
    show(snap.hub.name, '', snap.places.map(function (p) {
      return { name: p.config.name, items: snap.signals.filter(function (s) { return s.state.place === p.config.id && s.state.value !== undefined && s.state.fresh === 'live' })
        .slice(0, 12).map(function (s) { return [s.config.name, said(s.config, s.state.value)] }) }
    }).filter(function (p) { return p.items.length }).slice(0, 8))
    requestAnimationFrame(function () { setTimeout(begin) })
  }).catch(begin)
})()
