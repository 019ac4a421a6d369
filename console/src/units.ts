// Units as each person wants them read. The hub keeps and speaks the signal's own unit everywhere; only what is shown changes.
import type { History, Mark, Summary } from './api'
import { style, unitSign, valueText } from './format'
import units from './units.gen.json'

type Conversion = { to: string; sign: string; f: (v: number) => number; back: (v: number) => number; difference: number; decimals: number }

/** What each measure becomes, by UCUM symbol, as the hub says it too. */
const measures = Object.fromEntries(
  Object.entries(units.conversions).map(([name, all]) => [
    name,
    Object.fromEntries(
      Object.entries(all).map(([unit, c]): [string, Conversion] => [
        unit,
        { to: c.to, sign: unitSign(c.to), f: (v) => v * c.k + c.b, back: (v) => (v - c.b) / c.k, difference: c.k, decimals: c.decimals },
      ]),
    ),
  ]),
)

const conversion = (unit: string): Conversion | undefined => measures[style.units]?.[unit]

/** The sign of a unit as this person reads it. */
export const shownUnit = (unit: string): string => conversion(unit)?.sign ?? unitSign(unit)

/** A value in this person's unit, as text. */
export function shownValue(v: unknown, unit: string, decimals = 0): string {
  const c = typeof v === 'number' ? conversion(unit) : undefined
  return c ? valueText(c.f(v as number), Math.max(0, decimals + (c.decimals ? c.decimals : 0))) : valueText(v, decimals)
}

/** A number in this person's unit. */
export const shownNumber = (v: number, unit: string): number => conversion(unit)?.f(v) ?? v

/** What this person typed, in the signal's own unit. */
export const ownNumber = (v: number, unit: string): number => conversion(unit)?.back(v) ?? v

/** A step of a setting, in this person's unit. */
export const shownStep = (v: number, unit: string): number => v * (conversion(unit)?.difference ?? 1)

/** A history with its numbers in this person's unit. */
export function shownHistory(h: History): History {
  const c = conversion(h.unit)
  if (!c || h.kind !== 'number') return h
  const list = (l: number[] | undefined) => l?.map((v) => (v === null ? v : c.f(v)))
  return {
    ...h,
    unit: c.to,
    decimals: h.decimals + c.decimals,
    v: h.v?.map((v) => (typeof v === 'number' ? c.f(v) : v)),
    mean: list(h.mean),
    time_mean: list(h.time_mean),
    min: list(h.min),
    max: list(h.max),
    first: list(h.first),
    last: list(h.last),
  }
}

/** A limit or setpoint of a series of that unit. */
export const shownMark = (m: Mark, unit: string): Mark =>
  m.value === undefined || !conversion(unit) ? m : { ...m, value: conversion(unit)!.f(m.value) }

/** A summary with its numbers in this person's unit. */
export function shownSummary(s: Summary): Summary {
  const c = conversion(s.unit)
  if (!c || s.kind !== 'number') return s
  const one = (e: Summary['min']) => (e ? { ...e, v: c.f(e.v) } : e)
  const v = (n: number | undefined) => (n === undefined ? n : c.f(n))
  return {
    ...s,
    unit: c.to,
    decimals: s.decimals + c.decimals,
    first: one(s.first),
    last: one(s.last),
    min: one(s.min),
    max: one(s.max),
    mean: v(s.mean),
    time_mean: v(s.time_mean),
    bins: s.bins.map((b) => ({ ...b, from: c.f(b.from), to: c.f(b.to) })),
  }
}
