// Times of day in the hub's zone, wherever the viewer is.

const parts = (at: number, zone: string) =>
  Object.fromEntries(
    new Intl.DateTimeFormat('en-GB', {
      timeZone: zone,
      year: 'numeric',
      month: '2-digit',
      day: '2-digit',
      hour: '2-digit',
      minute: '2-digit',
      hourCycle: 'h23',
    })
      .formatToParts(at)
      .map((p) => [p.type, p.value]),
  )

/** An instant as an input of the type datetime-local shows it: 2026-12-24T18:30 in the zone. */
export function zonedText(at: number, zone: string): string {
  const p = parts(at, zone)
  return `${p.year}-${p.month}-${p.day}T${p.hour}:${p.minute}`
}

/** The instant at which the clocks of the zone show a text such as 2026-12-24T18:30, or NaN. */
export function zonedInstant(text: string, zone: string): number {
  const wanted = Date.parse(`${text}Z`)
  let at = wanted
  for (let i = 0; i < 2 && !Number.isNaN(at); i++) at += wanted - Date.parse(`${zonedText(at, zone)}Z`)
  return at
}
