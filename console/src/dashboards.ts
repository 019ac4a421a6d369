// What dashboards are made of, and how they lie on screens of any width.
import { api, ask, type Dashboard, type Tile } from './api'
import { useHub } from './hub'

export const rowHeight = 84
export const gap = 12

/** What an id on a dashboard means, as far as one may see it. */
export function about(id: string) {
  const hub = useHub()
  const place = (p: string | undefined) => hub.places.find((x) => x.id === p)?.name ?? ''
  const signal = hub.signals[id]
  if (signal) return { kind: 'signal' as const, name: signal.config.name, place: place(signal.state.place), signal }
  const control = hub.controls[id]
  if (control) return { kind: 'control' as const, name: control.config.name, place: place(control.state.place), control }
  const device = hub.devices[id]
  if (device?.state.camera) return { kind: 'camera' as const, name: device.config.name, place: place(device.config.place), device }
  const setting = hub.settings[id]
  if (setting) return { kind: 'setting' as const, name: setting.config.name, place: place(setting.state.place), setting }
  const preset = hub.presets.find((p) => p.config.id === id)
  if (preset) return { kind: 'preset' as const, name: preset.config.name, place: '', preset }
  if (hub.places.some((p) => p.id === id)) return { kind: 'place' as const, name: place(id), place: '' }
  return { kind: 'gone' as const, name: id, place: '' }
}

/** The tiles in the order of a narrow screen: as somebody put them, new ones at the end, else by row and column. */
export function inOrder(d: Dashboard): Tile[] {
  const flowing = [...d.tiles].sort((a, b) => a.y - b.y || a.x - b.x)
  if (!d.narrow?.length) return flowing
  const at = (t: Tile) => {
    const i = d.narrow!.indexOf(t.id)
    return i < 0 ? d.narrow!.length + flowing.indexOf(t) : i
  }
  return flowing.sort((a, b) => at(a) - at(b))
}

/** How many columns a width has. */
export const columnsFor = (width: number) => (width >= 900 ? 12 : width >= 560 ? 6 : 2)

/** An id that no tile has. */
export function freeId(tiles: Tile[]): string {
  let n = tiles.length + 1
  while (tiles.some((t) => t.id === `t${n}`)) n++
  return `t${n}`
}

/** Puts a tile where there is room for it, from the top. */
export function place(tiles: Tile[], t: Tile): Tile {
  const free = (x: number, y: number) => tiles.every((o) => x + t.w <= o.x || o.x + o.w <= x || y + t.h <= o.y || o.y + o.h <= y)
  for (let y = 0; ; y++) for (let x = 0; x + t.w <= 12; x++) if (free(x, y)) return { ...t, x, y }
}

/** The order of the tiles' lines, with one moved; others make room downwards. */
export function pushed(tiles: Tile[], moved: Tile): Tile[] {
  const out = tiles.map((t) => (t.id === moved.id ? moved : { ...t }))
  const hit = (a: Tile, b: Tile) => a.id !== b.id && a.x < b.x + b.w && b.x < a.x + a.w && a.y < b.y + b.h && b.y < a.y + a.h
  const queue = [moved]
  for (let k = 0; queue.length && k < 5000; k++) {
    const top = queue.shift()!
    for (const o of out)
      if (o.id !== moved.id && hit(top, o)) {
        o.y = top.y + top.h
        queue.push(o)
      }
  }
  return out
}

/** Asks the hub which tile suits something. */
export async function readyTile(id: string): Promise<Tile> {
  return (await ask(api.GET('/dashboards/ready', { params: { query: { of: id } } }))).tiles[0]!
}

export async function upload(file: File) {
  const type = file.name.toLowerCase().endsWith('.svg') ? 'image/svg+xml' : file.type || 'image/png'
  return ask(
    api.POST('/pictures', {
      params: { query: { name: file.name.slice(0, 80) } },
      body: file as unknown as string,
      bodySerializer: (b: unknown) => b as Blob,
      headers: { 'Content-Type': type },
    }),
  )
}

export const pictureAt = (id: string) => `/api/v1/pictures/${id}`

/** The ids of all that a dashboard shows. */
export function shownOn(d: Dashboard): string[] {
  return [
    ...new Set(
      d.tiles.flatMap((t) => [
        ...(t.of ?? []),
        ...(t.pins ?? []).map((p) => p.of),
        ...(t.parts ?? []).flatMap((p) => (p.of ? [p.of] : [])),
      ]),
    ),
  ]
}
