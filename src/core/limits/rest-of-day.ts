import type { CallSeries, Expected } from './call-series.js'
import { eightInTen } from './student-t.js'

const dayMs = 86_400_000
const weekMs = 7 * dayMs

/** Days before that are compared, at the most weeks back. */
const mostWeeks = 4

/** How many calls the usual day weighs against those of this day so far: as many as days that vary by a fifth deserve. */
const usualWeight = 25

/** Fewest days before on which it can be tried. */
const fewestTrials = 2

/**
 * Calls up to `end`, within a day that began at `dayStart`: those of the same weekdays before at this time, as this day is busier or quieter
 * than these so far. How far off that may be shows on the days before, on each of which it is tried. Undefined where there are too few.
 */
export function restOfDay(
  series: CallSeries,
  { now, end, dayStart }: { readonly now: number; readonly end: number; readonly dayStart: number },
): Expected | undefined {
  const soFarUntil = Math.min(now, series.until)
  /** What was expected `days` before. */
  const on = (days: number) => {
    const back = days * dayMs
    const references = Array.from({ length: mostWeeks }, (_, i) => back + (i + 1) * weekMs).filter((ms) => dayStart - ms >= series.from)
    const count = references.length
    if (count === 0) return undefined
    const mean = (from: number, to: number) => references.reduce((sum, ms) => sum + series.between(from - ms, to - ms), 0) / count
    const [usualSoFar, usualRest] = [mean(dayStart, soFarUntil), mean(now, end)]
    const soFar = series.between(dayStart - back, soFarUntil - back)
    const likely = (usualRest * (usualWeight + soFar)) / (usualWeight + usualSoFar)
    const doubt = 1 / (usualWeight + soFar) + 1 / (count * (usualWeight + usualSoFar)) + 1 / (count * Math.max(1, usualRest))
    return { likely, variance: Math.max(0.5, likely) + likely * likely * doubt }
  }
  const expected = on(0)
  if (!expected) return undefined
  let [sum, trials] = [0, 0]
  for (let days = 1; dayStart - days * dayMs >= series.from; days++) {
    const tried = on(days)
    if (!tried) continue
    const came = series.between(now - days * dayMs, end - days * dayMs)
    sum += (came - tried.likely) ** 2 / tried.variance
    trials++
  }
  if (trials < fewestTrials) return undefined
  const spread = eightInTen(trials) * Math.sqrt((sum / trials) * expected.variance)
  const { likely } = expected
  const shape = (from: number, to: number) => series.between(from - weekMs, to - weekMs)
  return { likely, low: Math.max(0, likely - spread), high: likely + spread, shape }
}
