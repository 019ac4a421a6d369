import { chromium } from 'playwright-core'
import { readFileSync } from 'node:fs'
const [out, size, theme, path, wait = '2500'] = process.argv.slice(2)
const [width, height] = size.split('x').map(Number)
const word = /mo\s+(\S+-\d+)\s+owner/.exec(readFileSync('/tmp/demo.log', 'utf8'))[1]
const b = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking', '--disable-component-update', '--disable-sync'] })
const p = await (await b.newContext({ viewport: { width, height }, colorScheme: theme, isMobile: width < 900, hasTouch: width < 900 })).newPage()
await p.goto('http://127.0.0.1:18480/')
await p.fill('#account', 'mo'); await p.fill('#password', word); await p.getByRole('button', { name: 'Sign in' }).click(); await p.waitForSelector('.bar')
await p.goto('http://127.0.0.1:18480' + path); await p.waitForTimeout(Number(wait))
await p.screenshot({ path: out })
await b.close()
