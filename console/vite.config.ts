import { existsSync, readdirSync, readFileSync, statSync } from 'node:fs'
import { dirname, resolve } from 'node:path'
import { PurgeCSS } from 'purgecss'
import vue from '@vitejs/plugin-vue'
import { defineConfig, type Plugin } from 'vite'

// What the first page needs is one file: on a slow phone each file more takes its time. That is all that it imports, but for
// what is loaded later.
const base = new Set<string>()
function reach(file: string) {
  if (base.has(file) || file.includes('node_modules') || !/\.(vue|ts)$/.test(file)) return
  base.add(file)
  for (const [, of] of readFileSync(file, 'utf8').matchAll(/^import (?!type )[^'"]*from '(\.[^']+)'|^import '(\.[^']+)'/gm)) {
    if (!of) continue
    const path = resolve(dirname(file), of)
    reach([path, `${path}.ts`].find((f) => existsSync(f) && statSync(f).isFile()) ?? path)
  }
}
reach(resolve('src/main.ts'))
const libraries = /node_modules\/(vue|@vue|pinia|vue-router|openapi-fetch)\/|plugin-vue|units\.gen\.json/
const first = (id: string) => libraries.test(id) || base.has(id.split('?')[0]!)

// What comes first is part of the page. What the page of the console needs is fetched by it, when the first view is painted.
const early: Plugin = {
  name: 'early',
  transformIndexHtml: {
    order: 'post',
    handler: (html, ctx) => {
      const later: [string, Record<string, string>][] = []
      if (ctx.bundle) {
        html = html.replace(/\s*<(script|link)([^>]*\/assets\/[^>]*)>(<\/script>)?/g, (_, tag: string, attributes: string) => {
          later.push([
            tag,
            Object.fromEntries(
              [...attributes.matchAll(/([a-z]+)(?:="([^"]*)")?/g)]
                .filter((m) => m[2] !== undefined || m[1] === 'crossorigin')
                .map((m) => [m[1]!, m[2] ?? '']),
            ),
          ])
          return ''
        })
        for (const f of Object.keys(ctx.bundle))
          if (/\/base-[^/]+\.(js|css)$/.test(f))
            later.push(['link', f.endsWith('.css') ? { rel: 'stylesheet', href: '/' + f } : { rel: 'modulepreload', href: '/' + f }])
      }
      return html.replace(/<!-- (first\/\w+\.(js|css)) -->/g, (_, file: string, kind: string) => {
        const text = readFileSync(file, 'utf8').replace('var later = []', `var later = ${JSON.stringify(later)}`)
        return kind === 'js' ? `<script>\n${text}</script>` : `<style>\n${text}</style>`
      })
    },
  },
}

// Of Bootstrap's rules only those stay that a page, or a component that one imports, may name; the rest costs each start its time.
const components = [
  ...new Set(
    readdirSync('src', { recursive: true, encoding: 'utf8' })
      .filter((f) => /\.(vue|ts)$/.test(f))
      .flatMap((f) => [...readFileSync('src/' + f, 'utf8').matchAll(/bootstrap-vue-next\/components\/(B\w+)/g)].map((m) => m[1])),
  ),
]
const lean: Plugin = {
  name: 'lean',
  apply: 'build',
  enforce: 'pre',
  async transform(code, id) {
    if (!/\/bootstrap(-vue-next)?\.css$/.test(id)) return
    const [kept] = await new PurgeCSS().purge({
      content: ['index.html', 'first/*.js', 'src/**/*.{vue,ts}', `node_modules/bootstrap-vue-next/dist/*{${components.join()}}*.js`],
      css: [{ raw: code }],
      safelist: {
        standard: [/^(modal|offcanvas|btn|form|fade|show|collaps|input-group|visually-hidden|invalid|valid|is-|was-)/],
        greedy: [/data-bs-theme/],
      }, // names that are put together
    })
    return { code: kept!.css, map: null }
  },
}

export default defineConfig({
  plugins: [lean, vue(), early],
  build: {
    modulePreload: { polyfill: false },
    target: 'es2022',
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 700,
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            { name: 'load', test: /preload-helper/, priority: 10 },
            { name: 'base', test: first },
          ],
        },
      },
    },
  },
  server: { proxy: { '/api': process.env.IDLEEMBER_HUB ?? 'http://127.0.0.1:8480' } },
})
