// usage: node shots.mjs URL ACCOUNT PASSWORD OUT name=path[:WxH[:dark]] ...
import { chromium } from 'playwright-core'
const [url, account, password, out, ...jobs] = process.argv.slice(2)
const flags = '--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync'.split(' ')
const b = await chromium.launch({ executablePath: '/usr/bin/chromium', args: flags })
const ctx0 = await b.newContext(); const p0 = await ctx0.newPage()
let state
if (account !== '-') {
  await p0.goto(url); await p0.fill('#account', account); await p0.fill('#password', password); await p0.keyboard.press('Enter'); await p0.waitForSelector('.bar'); state = await ctx0.storageState()
}
for (const j of jobs) {
  const [name, rest] = j.split('=', 1).concat(j.slice(j.indexOf('=') + 1))
  const [path, size = '1280x800', theme = 'light'] = rest.split('@')
  const [width, height] = size.split('x').map(Number)
  const ctx = await b.newContext({ viewport: { width, height }, colorScheme: theme, storageState: state, hasTouch: width < 900, isMobile: width < 900 })
  const p = await ctx.newPage()
  const errors = []; p.on('console', (m) => { if (['error', 'warning'].includes(m.type())) errors.push(m.text()) }); p.on('pageerror', (e) => errors.push(String(e)))
  await p.goto(url + path); await p.waitForTimeout(1600)
  await p.screenshot({ path: `${out}/${name}.png` }); if (errors.length) console.log(name, errors.slice(0, 5))
  await ctx.close()
}
await b.close()
