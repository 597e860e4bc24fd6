import { type CallSeries, type Expected, inAll } from './call-series.js'
import { eightInTen } from './student-t.js'

const weekMs = 7 * 86_400_000

/** Weeks that differ by so much, a single rush as a rule, say nothing of those to come. */
const mostFactor = 10

/** Fewer weeks than these tell no trend from chance. */
const fewestWeeks = 3

/**
 * Calls up to `end`: those of the same hours of the weeks before, along the line on which their logarithms lie. How far off it may be comes from
 * how far the weeks lie from that line, and how uncertain it is itself. Undefined where there are too few weeks, or they differ too much.
 */
export function weeklyTrend(series: CallSeries, { now, end }: { readonly now: number; readonly end: number }): Expected | undefined {
  const weeks = Math.floor(series.lengthMs / weekMs)
  if (weeks < fewestWeeks) return undefined
  const length = Math.min(weekMs, end - now)
  /** The middle of the same time `back` weeks before, in weeks. */
  const middle = (back: number) => length / 2 / weekMs - back
  const points = Array.from({ length: weeks }, (_, i) => {
    const from = (length === weekMs ? series.until : now) - (i + 1) * weekMs
    return { x: middle(i + 1), y: Math.log(series.between(from, from + length) + 0.5) }
  })
  const [meanX, meanY] = [meanOf(points.map(({ x }) => x)), meanOf(points.map(({ y }) => y))]
  const spreadX = points.reduce((sum, { x }) => sum + (x - meanX) ** 2, 0)
  const slope = points.reduce((sum, { x, y }) => sum + (x - meanX) * (y - meanY), 0) / spreadX
  const at = (x: number) => meanY + slope * (x - meanX)
  const variance = points.reduce((sum, { x, y }) => sum + (y - at(x)) ** 2, 0) / (weeks - 2)
  const withDoubt = variance * (1 + 2 / weeks) // for the shape of a week is drawn from the same weeks, and these may cut across others that differ
  const level = (ms: number) => Math.exp(at(ms / weekMs))
  /** What part of a week, or of the time that is compared, falls on some hours, as all weeks have it without their trend; and then with it. */
  const shape = (from: number, to: number) => {
    const ms = (from + to) / 2 - now
    let [sum, known] = [0, 0]
    for (let back = Math.max(1, Math.ceil((to - series.until) / weekMs)); from - back * weekMs >= series.from; back++) {
      sum += series.between(from - back * weekMs, to - back * weekMs) / level(ms - back * weekMs)
      known++
    }
    return (sum / Math.max(1, known)) * level(ms)
  }
  const likely = inAll(shape, now, end)
  const ahead = Math.max(1, (end - now) / weekMs)
  const x = (end - now) / 2 / weekMs
  const deviation = Math.sqrt(withDoubt * (1 / ahead + 1 / weeks + (x - meanX) ** 2 / spreadX))
  const factor = Math.exp(eightInTen(weeks - 2) * deviation)
  return factor > mostFactor ? undefined : { likely, low: likely / factor, high: likely * factor, shape }
}

function meanOf(values: readonly number[]): number {
  return values.reduce((sum, value) => sum + value, 0) / values.length
}
