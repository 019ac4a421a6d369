import { api, ask, type FormulaWord } from '../../api'

let kept: Promise<FormulaWord[]> | null = null
let at = 0

/** What formulas can name; asked again after a minute. */
export function formulaWords(): Promise<FormulaWord[]> {
  if (!kept || Date.now() - at > 60_000) {
    at = Date.now()
    kept = ask(api.GET('/formulas/words'))
  }
  return kept
}
