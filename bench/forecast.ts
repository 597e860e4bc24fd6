import { uniformFloat64 } from 'pure-rand/distribution/uniformFloat64'
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus'
import type { RandomGenerator } from 'pure-rand/types/RandomGenerator'
import type { HourOfCalls } from '../src/core/limits/call-series.js'
import { forecastCalls } from '../src/core/limits/forecast.js'

const hour = 3_600_000
const day = 24 * hour
/** Noon on a Wednesday, in the midst of a month. */
const now = Date.parse('2026-07-15T12:00Z')

/** How the level of traffic changes, besides by the hour of the week and by chance (Poisson): a factor for each day from the first on. */
const kinds: readonly [name: string, levels: (random: () => number, days: number) => number[]][] = [
  ['weekday shape', (_, days) => Array(days).fill(1)],
  ['days vary by 20%', (random, days) => Array.from({ length: days }, () => varied(random, 0.2))],
  [
    'weeks vary by 15%',
    (random, days) => {
      const weeks = Array.from({ length: Math.ceil(days / 7) }, () => varied(random, 0.15))
      return Array.from({ length: days }, (_, i) => weeks[Math.floor(i / 7)] as number)
    },
  ],
  ['growth of 10% a week', (_, days) => Array.from({ length: days }, (_day, i) => 1.1 ** (i / 7))],
  ['decline of 10% a week', (_, days) => Array.from({ length: days }, (_day, i) => 0.9 ** (i / 7))],
]

/** One kind of traffic, with so many days of data, under a quota by day or month. */
export interface Cell {
  readonly kind: string
  readonly days: number
  readonly per: 'day' | 'month'
  /** In how many of a hundred forecasts there is a range. */
  readonly ranged: number
  /** How many of a hundred ranges held, and how wide they are in the mean, in percent of what was likely. */
  readonly held: number
  readonly width: number
}

/** Forecasts traffic made up of each kind, by `seeds` seeds: whether what comes then is in the range. */
export function calibration(seeds: number, spans: readonly number[] = [1, 10, 15, 28]): Cell[] {
  const cells: Cell[] = []
  for (const [kind, levelsOf] of kinds)
    for (const days of spans)
      for (const per of ['day', 'month'] as const) {
        let [ranged, held, width] = [0, 0, 0]
        for (let seed = 1; seed <= seeds; seed++) {
          const random = uniform(xoroshiro128plus(seed * 7919 + days))
          // any hour of any day of the week
          const at = now + Math.floor(random() * 7) * day + (per === 'day' ? Math.floor(random() * 16) - 8 : 0) * hour
          const end = per === 'day' ? Math.floor(at / day) * day + day : at + (10 + Math.floor(random() * 10)) * day + 12 * hour
          const from = at - days * day
          const levels = levelsOf(random, Math.ceil((end - from) / day) + 1)
          const all: HourOfCalls[] = []
          for (let one = from; one < end; one += hour)
            all.push({ at: one, calls: poisson(random, office(one) * (levels[Math.floor(one / day) - Math.floor(from / day)] as number)) })
          const past = all.filter((one) => one.at < at)
          const came = all.filter((one) => one.at >= at).reduce((sum, { calls }) => sum + calls, 0)
          const forecast = forecastCalls({ used: 0, now: at, end, hours: past, zone: 'UTC' })
          const { low = null, likely = 0, high = null } = forecast?.usedAtEnd ?? {}
          if (low === null || high === null) continue
          ranged++
          if (came >= low && came <= high) held++
          width += (high - low) / Math.max(1, likely)
        }
        cells.push({ kind, days, per, ranged: (100 * ranged) / seeds, held: (100 * held) / ranged, width: (100 * width) / ranged })
      }
  return cells
}

/** Calls an hour of an office: busy on working days, quiet at night and on the weekend. */
function office(at: number): number {
  const [weekday, time] = [new Date(at).getUTCDay(), new Date(at).getUTCHours()]
  if (weekday === 0 || weekday === 6) return 6
  return time >= 7 && time < 17 ? 40 : 8
}

function uniform(generator: RandomGenerator): () => number {
  return () => uniformFloat64(generator)
}

/** A factor of mean 1 that varies by `share` (log-normal). */
function varied(random: () => number, share: number): number {
  const normal = Math.sqrt(-2 * Math.log(1 - random())) * Math.cos(2 * Math.PI * random())
  return Math.exp(share * normal - (share * share) / 2)
}

function poisson(random: () => number, mean: number): number {
  let [calls, chance, left] = [0, Math.exp(-mean), random()]
  while (left > chance && calls < 10_000) {
    left -= chance
    calls++
    chance *= mean / calls
  }
  return calls
}
