import { uniformFloat64 } from 'pure-rand/distribution/uniformFloat64'
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus'
import { sqliteStore } from 'stashen/sqlite'
import { countHit, countTime } from '../src/core/ledger/count-calls.js'
import { Tally } from '../src/core/ledger/tally.js'
import { openDriver } from '../src/stores/sqlite/open-driver.js'

const [minute, hour, day] = [60_000, 3_600_000, 86_400_000]
const [providers, endpoints] = [10, 500]
const zoneMs = 2 * hour

/** The end of the year that is made up. */
export const yearEnds = Date.parse('2026-06-30T22:00Z')

/**
 * Writes what the ledger of 500 endpoints holds after a year: months and days of each, hours of the last 92 days, three of ten of them with calls, minutes
 * of the last two days, one of twenty, and one more hour of minutes, all with calls, that were not put together yet.
 */
export async function makeUpYear(file: string): Promise<void> {
  const since = yearEnds - 365 * day
  const store = sqliteStore(file)
  await store.open({ now: yearEnds, warn: console.warn })
  for (let p = 0; p < providers; p++) {
    const plan = { currency: 'EUR', period: 'month', zone: 'Europe/Oslo', perCall: '0.004', included: 1000 } as const
    await store.ledger.addFacts({ provider: `p${p}`, endpoint: null, since, plan, limits: [{ calls: 600, perMs: minute }] })
  }
  await store.close()
  const random = uniform(1)
  const driver = openDriver(file)
  driver.exec('PRAGMA synchronous = OFF; BEGIN')
  const insert = driver.prepare(
    'INSERT INTO ledger (detail, grain, bucket, mode, provider, endpoint, length, tally) VALUES (?, ?, ?, ?, ?, ?, ?, ?)',
  )
  const [ofMonths, ofDays, ofHours, ofMinutes] = [400, 60, 12, 3].map((calls) => Array.from({ length: 64 }, () => tallyText(random, calls)))
  let row = 0
  const put = (detail: number, grain: number, { at, length, tallies, share = 1 }: Stretch) => {
    for (let e = 0; e < endpoints; e++) {
      if (random() >= share) continue
      const place = [detail, grain, at, 'reuse', `p${e % providers}`, `e${e}`] as const
      insert.run(...place, length, tallies?.[row++ & 63] as string)
    }
  }
  for (let month = 6; month < 18; month++) {
    const [at, end] = [Date.UTC(2025, month, 1) - zoneMs, Date.UTC(2025, month + 1, 1) - zoneMs]
    put(0, 3, { at, length: end - at, tallies: ofMonths })
  }
  for (let at = since; at < yearEnds; at += day) put(1, 2, { at, length: day, tallies: ofDays })
  for (let at = yearEnds - 92 * day; at < yearEnds; at += hour) put(1, 1, { at, length: hour, tallies: ofHours, share: 0.3 })
  for (let at = yearEnds - 2 * day; at < yearEnds; at += minute) put(1, 0, { at, length: minute, tallies: ofMinutes, share: 0.05 })
  for (let at = yearEnds; at < yearEnds + hour; at += minute) put(0, 0, { at, length: minute, tallies: ofMinutes })
  driver.exec('COMMIT')
  await driver.close()
}

/** A time of which each endpoint has a row, or a share of them has. */
interface Stretch {
  readonly at: number
  readonly length: number
  readonly tallies: readonly string[] | undefined
  readonly share?: number
}

function tallyText(random: () => number, calls: number): string {
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
  return JSON.stringify(tally)
}

function uniform(seed: number): () => number {
  const generator = xoroshiro128plus(seed)
  return () => uniformFloat64(generator)
}
