// The kinds of demands. Each is a module in demands/, found by its name: what it is called, how it begins, what it says, and its form.
import type { Component } from 'vue'
import type { Control, Demand } from './api'

export interface DemandKind {
  title: string
  /** Where it stands among the others. */
  place: number
  /** Which controls may have it; none: all. */
  suits?: (c: Control) => boolean
  /** It finds the level itself. */
  levels?: boolean
  /** A new one, made of what there was. */
  fresh: (was: Demand) => Partial<Demand>
}

interface Module {
  default: Component
  kind: DemandKind
}

const modules = import.meta.glob<Module>('./demands/*.vue', { eager: true })

export const demandKinds: Record<string, Module> = Object.fromEntries(
  Object.entries(modules).map(([file, m]) => [file.replace(/^.*\/|\.vue$/g, ''), m]),
)

/** The kinds that a control may have, in their order. */
export const demandsFor = (c: Control) =>
  Object.entries(demandKinds)
    .filter(([, m]) => m.kind.suits?.(c) ?? true)
    .sort((a, b) => a[1].kind.place - b[1].kind.place)
    .map(([name, m]) => ({ value: name, text: m.kind.title }))
