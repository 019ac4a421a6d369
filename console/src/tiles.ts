// The kinds of tiles. Each is a module in tiles/, found by its name: what it is called, what it suits, what it needs, its body
// and its form.
import type { Component } from 'vue'
import type { Part, Tile } from './api'
import { about } from './dashboards'
import type { Runs, Trace } from './day'
import { useHub } from './hub'

/** What a tile shows itself with. */
export interface Shown {
  tile: Tile
  traces: Record<string, Trace>
  runs: Record<string, Runs>
  from: number
  to: number
  formulas?: Record<string, string>
  wall?: boolean
  editing?: boolean
  picked?: string
}

/** What a tile's form works on, besides the tile. */
export interface Formed {
  elements: { id: string; what: string }[] // of its picture
  picked: string
}

export interface TileKind {
  title: string
  /** What it can be about; nothing else is shown in it. */
  shows?: ReturnType<typeof about>['kind'][]
  /** Where it is offered for what a tile is about, the most fitting first (1); 0 or nothing: it is not. */
  fits?: (thing: ReturnType<typeof about>) => number
  /** Columns and rows of one that is added without being about something; none: it always is. */
  size?: { w: number; h: number }
  /** Its form opens when it is added. */
  opens?: boolean
  /** It has no title but one that somebody gave it. */
  untitled?: boolean
  /** On a phone it shares a line with another one. */
  small?: boolean
  /** Rows that it takes on a phone at least, and at most. */
  tall?: (tile: Tile) => [number, number]
  /** It shows the last day of what it is about. */
  day?: boolean
  /** It may be about several: what kinds of things those are, and how the button to add one is called. */
  more?: { of: string[]; called: string; one?: boolean }
}

interface Module {
  default: Component
  kind: TileKind
}

const modules = import.meta.glob<Module>('./tiles/*.vue', { eager: true })

export const tileKinds: Record<string, Module> = Object.fromEntries(
  Object.entries(modules).map(([file, m]) => [file.replace(/^.*\/|\.vue$/g, ''), m]),
)

export const kindName = (kind: string) => tileKinds[kind]?.kind.title ?? kind

/** What a tile may become without becoming about something else. */
export function kindsFor(t: Tile): string[] {
  const first = t.of?.[0]
  if (!first) return [t.kind]
  const thing = about(first)
  const fits = Object.entries(tileKinds).flatMap(([name, m]) => {
    const n = m.kind.fits?.(thing)
    return n ? [[name, n] as const] : []
  })
  return fits.length ? fits.sort((a, b) => a[1] - b[1]).map(([name]) => name) : [t.kind]
}

/** Columns and rows of a tile where there are fewer than 12 columns: small ones share a line, the others have their own. */
export function spanOn(t: Tile, columns: number): { w: number; h: number } {
  const kind = tileKinds[t.kind]?.kind
  if (columns === 2) {
    const [least, most] = kind?.tall?.(t) ?? [1, 99]
    return { w: kind?.small && t.w <= 3 ? 1 : 2, h: Math.max(least, Math.min(most, t.h)) }
  }
  return { w: Math.min(6, Math.max(2, Math.round(t.w / 2) + (t.w < 6 ? 1 : 0))), h: t.h }
}

/** The series of which the tiles show the last day. */
export function daysOf(tiles: Tile[]): string[] {
  const hub = useHub()
  const out = new Set<string>()
  for (const t of tiles) {
    if (tileKinds[t.kind]?.kind.day) for (const id of t.of ?? []) if (hub.controls[id] || hub.signals[id]) out.add(seriesOf(id))
    for (const p of t.pins ?? []) if (tileKinds[p.kind]?.kind.day && hub.signals[p.of]) out.add(p.of)
  }
  return [...out].sort()
}

/** The series of a signal or control. */
export const seriesOf = (id: string) => (useHub().controls[id] ? id + '.is' : id)

export const isNumber = (thing: ReturnType<typeof about>) => thing.kind === 'signal' && thing.signal.config.kind === 'number'
export const isOnOff = (thing: ReturnType<typeof about>) => thing.kind === 'signal' && thing.signal.config.kind === 'onoff'
export type { Part }
