import { mkdtempSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { monitorEventLoopDelay } from 'node:perf_hooks'
import type { Entry, Store } from 'stashen'
import { memoryStore } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import { inPieces, invalidateAll } from '../src/core/in-pieces.js'
import { keepLedgerSmall } from '../src/engine/ledger/ledger-upkeep.js'
import { systemClock } from '../src/engine/system-clock.js'
import { readReport } from '../src/queries/reports.js'
import { compare, type Ratio } from './compare.js'
import type { Figure } from './figure.js'
import { makeUpYear, yearEnds, yearZone } from './year.js'

const limitMs = 20
const day = 86_400_000

/** The longest that the event loop is held up while a work goes on, milliseconds. */
async function blocked(name: string, work: () => unknown): Promise<Figure> {
  const delay = monitorEventLoopDelay({ resolution: 1 })
  await pause()
  delay.enable()
  await pause()
  await work()
  await pause()
  delay.disable()
  return { name: `event loop held up by ${name}`, value: delay.max / 1e6 - 1, limit: limitMs, unit: 'ms' }
}

const pause = () => new Promise((resolve) => setTimeout(resolve, 20))

/** A year's ledger of 500 endpoints: what reading it and putting it together holds up, and what it takes. */
export async function yearFigures(): Promise<(Ratio | Figure)[]> {
  const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
  const file = join(folder, 'year.db')
  await makeUpYear(file)
  console.log(`${'the ledger of a year of 500 endpoints'.padEnd(60)} ${Math.round(statSync(file).size / 1e6)} MB`)
  const opened: number[] = []
  for (let i = 0; i < 5; i++) {
    const store = sqliteStore(file)
    const began = performance.now()
    await store.open({ now: yearEnds, warn: console.warn })
    opened.push(performance.now() - began)
    await store.close()
  }
  const store = sqliteStore(file)
  await store.open({ now: yearEnds, warn: console.warn })
  const report = (days: number, by?: 'day') =>
    readReport(store, yearEnds, { since: yearEnds - days * day, until: yearEnds, ...(by && { by, zone: yearZone }) })
  for (let i = 0; i < 2; i++) await report(365)
  await report(365, 'day')
  const figures: (Ratio | Figure)[] = [
    { name: 'opening the ledger of a year of 500 endpoints', value: Math.max(...opened.slice(1)), limit: 100, unit: 'ms' },
    await blocked('a report over a year of 500 endpoints', () => report(365)),
    await blocked('the same, day by day', () => report(365, 'day')),
    await compare({
      name: "a week's report against a year's",
      ours: () => report(7),
      baseline: () => report(365),
      limit: 1 / 20,
      rounds: 5,
    }),
  ]
  const now = yearEnds + 2 * 3_600_000
  const keeping = { minutesForMs: 2 * day, hoursForMs: 92 * day, zone: yearZone }
  figures.push(
    await blocked('putting minutes of 500 endpoints together', async () =>
      keepLedgerSmall({ store, accounts: await store.ledger.accounts(), clock: systemClock, now, isOver: () => false }, keeping),
    ),
  )
  await store.close()
  rmSync(folder, { recursive: true })
  return figures
}

const [few, many] = [1_000, 1_000_000]

/** What a work takes among a million entries against a thousand, and what it holds up where it has much to do. */
export async function entryFigures(): Promise<(Ratio | Figure)[]> {
  const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
  const figures: (Ratio | Figure)[] = []
  for (const kind of ['memory', 'SQLite'] as const) {
    const stores = [few, many].map((entries) =>
      kind === 'memory' ? memoryStore({ maxBytes: 2e9 }) : sqliteStore(join(folder, `${entries}.db`), { maxBytes: 8e9 }),
    ) as [Store, Store]
    for (const [i, store] of stores.entries()) {
      await store.open({ now: 0, warn: console.warn })
      await fill(store, [few, many][i] as number)
    }
    const [small, large] = stores
    const against = (name: string, work: (store: Store) => unknown) =>
      compare({
        name: `${kind}: ${name}, 1M entries against 1k`,
        ours: () => work(large),
        baseline: () => work(small),
        limit: 1.5,
        rounds: 41,
      })
    let id = 0
    figures.push(
      await against('invalidation after a write', ({ entries }) => entries.invalidate({ under: keyOf(id++ % few) }, 1)),
      await against('a variant, and its trimming', async ({ entries }) => {
        await entries.put(entryOf(`${keyOf(1)} vary:${id++ % 200}`, 'tides'), 1)
        await entries.trim({ under: keyOf(1) }, 101, 1)
      }),
      await against('trimming an endpoint by one', async ({ entries }) => {
        const store = entries === small.entries ? few : many
        await entries.put(entryOf(keyOf(1e9 + id++), 'tides'), 1)
        await entries.trim({ provider: 'ebbline', endpoint: 'tides' }, store, 1)
      }),
    )
    const { entries } = large
    const tides = { provider: 'ebbline', endpoint: 'tides' }
    figures.push(
      await blocked(`invalidating a million entries, ${kind}`, () => invalidateAll(systemClock, entries, tides, 1)),
      await blocked(`trimming to a half, ${kind}`, () =>
        inPieces(
          systemClock,
          () => entries.trim(tides, many / 2, 1),
          ({ more }) => more,
        ),
      ),
      await blocked(`sweeping the rest, ${kind}`, () =>
        inPieces(
          systemClock,
          () => entries.sweep(1e13),
          ({ more }) => more,
        ),
      ),
    )
    for (const store of stores) await store.close()
  }
  rmSync(folder, { recursive: true })
  return figures
}

function keyOf(id: number): string {
  return `GET https://tides.ebbline.example/v2/stations/st-${id}/tides ebbline.tides`
}

function entryOf(key: string, endpoint: string): Entry {
  const times = { storedAt: 0, bornAt: 0, freshUntil: 1e12, refreshableUntil: 1e12, usableUntil: 1e12, keepUntil: 1e12 }
  return {
    ...{ key, provider: 'ebbline', endpoint, head: '{"status":200}', body: new Uint8Array(100), ...times },
    mustRevalidate: false,
    invalidated: false,
  }
}

async function fill({ entries }: Store, count: number): Promise<void> {
  for (let i = 0; i < count; i++) await entries.put(entryOf(keyOf(i), 'tides'), 0)
}
