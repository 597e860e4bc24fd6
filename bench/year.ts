import { uniformFloat64 } from 'pure-rand/distribution/uniformFloat64'
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus'
import { sqliteStore } from 'stashen/sqlite'
import { countHit, countTime } from '../src/core/ledger/count-calls.js'
import { sumTallies } from '../src/core/ledger/sum-tallies.js'
import { Tally } from '../src/core/ledger/tally.js'
import type { TallyData } from '../src/core/ledger/tally-data.js'
import { openDriver } from '../src/stores/sqlite/open-driver.js'

const [minute, hour, day] = [60_000, 3_600_000, 86_400_000]
const [providers, endpoints] = [10, 500]
const zoneMs = 2 * hour

/** The end of the year that is made up. */
export const yearEnds = Date.parse('2026-06-30T22:00Z')

/** The zone of the days and months of that year: always two hours ahead of UTC. */
export const yearZone = 'Etc/GMT-2'

/**
 * Writes what the ledger of 500 endpoints holds after a year: months and days of each, hours of the last 92 days, three of ten of them with calls, minutes
 * of the last two days, one of twenty, and one more hour of minutes, all with calls, that were not put together yet. What is longer is the sum of
 * what is shorter.
 */
export async function makeUpYear(file: string): Promise<void> {
  const since = yearEnds - 365 * day
  const store = sqliteStore(file)
  await store.open({ now: yearEnds, warn: console.warn })
  for (let p = 0; p < providers; p++) {
    const plan = { currency: 'EUR', period: 'month', zone: yearZone, perCall: '0.004', included: 1000 } as const
    await store.ledger.addFacts({ provider: `p${p}`, endpoint: null, since, plan, limits: [{ calls: 600, perMs: minute }] })
  }
  await store.close()
  const random = uniform(1)
  const driver = openDriver(file)
  driver.exec('PRAGMA synchronous = OFF; BEGIN')
  const insert = driver.prepare(
    'INSERT INTO ledger (detail, grain, bucket, mode, provider, endpoint, length, tally) VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
  )
  const minutes = Array.from({ length: 64 }, (): Stretch => ({ text: JSON.stringify(tallyOf(random, 3)), parts: [] }))
  const hours = Array.from({ length: 64 }, () => sumOf(60, () => (random() < 1 / 6 ? oneOf(minutes, random) : undefined)))
  const days = Array.from({ length: 64 }, () => sumOf(24, () => (random() < 0.3 ? oneOf(hours, random) : undefined)))
  const months = [28, 30, 31].map((length) => Array.from({ length: 8 }, () => sumOf(length, () => oneOf(days, random))))
  for (let e = 0; e < endpoints; e++) {
    const put = (detail: number, grain: number, at: number, length: number, { text }: Stretch) =>
      insert.run(detail, grain, at, 'reuse', `p${e % providers}`, `e${e}`, length, text)
    for (let month = 6; month < 18; month++) {
      const [first, end] = [Date.UTC(2025, month, 1) - zoneMs, Date.UTC(2025, month + 1, 1) - zoneMs]
      const its = oneOf(months[[28, 30, 31].indexOf((end - first) / day)] as Stretch[], random)
      put(0, 3, first, end - first, its)
      for (const [at, ofDay] of partsOf(its, first, day)) {
        put(1, 2, at, day, ofDay)
        if (at < yearEnds - 92 * day) continue
        for (const [begin, ofHour] of partsOf(ofDay, at, hour)) {
          put(1, 1, begin, hour, ofHour)
          if (at >= yearEnds - 2 * day) for (const [one, ofMinute] of partsOf(ofHour, begin, minute)) put(1, 0, one, minute, ofMinute)
        }
      }
    }
    for (let at = yearEnds; at < yearEnds + hour; at += minute) put(0, 0, at, minute, oneOf(minutes, random))
  }
  driver.exec('COMMIT')
  await driver.close()
}

/** What was counted in a stretch of time: the sum of its parts, some of which have no calls. */
interface Stretch {
  readonly text: string
  readonly parts: readonly (Stretch | undefined)[]
}

function sumOf(length: number, part: () => Stretch | undefined): Stretch {
  const parts = Array.from({ length }, part)
  const all = parts.reduce((sum, one) => (one ? sumTallies(sum, JSON.parse(one.text) as TallyData) : sum), new Tally().toJSON())
  return { text: JSON.stringify(all), parts }
}

function oneOf<T>(all: readonly T[], random: () => number): T {
  return all[Math.floor(random() * all.length)] as T
}

/** The parts of a stretch that have calls, with when they begin. */
function* partsOf({ parts }: Stretch, begins: number, length: number): Generator<[at: number, part: Stretch]> {
  for (const [i, part] of parts.entries()) if (part) yield [begins + i * length, part]
}

function tallyOf(random: () => number, calls: number): Tally {
  const tally = new Tally()
  const at = yearEnds
  for (let i = 0; i < calls; i++) {
    if (random() < 0.8) {
      countHit(tally, { bornAt: at - random() * hour }, at, { ms: 0.05 + random(), status: 200 })
      continue
    }
    const ms = 40 * (1 - random()) ** -0.6
    tally.forwarded++
    tally.upAnswered++
    tally.latency.add(ms)
    countTime(tally, ms)
  }
  return tally
}

function uniform(seed: number): () => number {
  const generator = xoroshiro128plus(seed)
  return () => uniformFloat64(generator)
}
