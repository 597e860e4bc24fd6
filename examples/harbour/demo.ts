import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { Worker } from 'node:worker_threads'
import { stringify } from 'csv-stringify/sync'
import { providers } from './config.js'
import { isServer, openStoreOf } from './open-store.js'
import type { DayCounts, DaySetting, DayUsage } from './run-day.js'
import { trafficOfDay } from './traffic.js'
import { dayStart } from './world.js'

export { zone } from './world.js'

export const demoProviders = Object.keys(providers)

interface Day {
  readonly counts: DayCounts
  readonly usage: DayUsage
}

export interface DemoSetting {
  /** Where what is counted is left: a store file, or the address of a Redis server. What an earlier demo left there is dropped. */
  readonly store: string
  /** What the files are named after that are left besides. Default: the store file. */
  readonly file?: string
  readonly seed: number
  /** Only the calls of the day before this moment; default: all. */
  readonly until?: number
  /** Reported how many calls there will be, and then of calls made. */
  readonly onStart: (calls: number) => void
  readonly onCalls: (calls: number) => void
}

/**
 * Plays the demo day twice, side by side: once only measuring and once reusing, each in a thread with providers and a store file of its own, so
 * that neither waits for the other's writing; at the end both are in the ledger of one store. Leaves beside it, of the day of reuse, a journal of the
 * calls, and for each provider what it bills, as CSV. Returns what the providers counted and billed themselves.
 */
export async function runDemo({
  store,
  file = store,
  seed,
  until = Number.POSITIVE_INFINITY,
  onStart,
  onCalls,
}: DemoSetting): Promise<{ measure: Day; reuse: Day }> {
  if (isServer(store)) await emptied(store)
  onStart(2 * trafficOfDay(seed, until).length)
  const folder = mkdtempSync(join(tmpdir(), 'stashen-demo-'))
  try {
    const measured = join(folder, 'measured.db')
    const [measure, reuse] = await Promise.all([
      playDay({ store: measured, file: measured, mode: 'measure', seed, until }, onCalls),
      playDay({ store, file, mode: 'reuse', seed, until }, onCalls),
    ])
    await copyLedger(measured, store)
    for (const [provider, days] of Object.entries(reuse.usage)) {
      writeFileSync(`${file}.${provider}-usage.csv`, stringify([['day', 'calls'], ...days.map((line) => [...line])]))
    }
    return { measure, reuse }
  } finally {
    rmSync(folder, { recursive: true, force: true })
  }
}

function playDay(
  setting: Pick<DaySetting, 'store' | 'file' | 'mode' | 'seed'> & { readonly until: number },
  onCalls: DemoSetting['onCalls'],
): Promise<Day> {
  return new Promise((resolve, reject) => {
    const worker = new Worker(new URL('./day-worker.js', import.meta.url), {
      workerData: setting,
      resourceLimits: { maxYoungGenerationSizeMb: 64 },
    })
    worker.on('message', ({ calls, counts, usage }: { calls: number; counts?: DayCounts; usage?: DayUsage }) => {
      onCalls(calls)
      if (counts && usage) resolve({ counts, usage })
    })
    worker.on('error', reject)
  })
}

/** Drops what an earlier demo left on a server. */
async function emptied(named: string): Promise<void> {
  const store = openStoreOf(named)
  const opening = { now: dayStart, warn() {} }
  await store.open(opening)
  while ((await store.entries.remove({ all: true })).more);
  for (const details of [false, true])
    while (await store.ledger.drop({ since: Number.MIN_SAFE_INTEGER, until: Number.MAX_SAFE_INTEGER, details }));
  for (const name of (await store.records.records('', 0)).keys())
    await store.records.update(name, 0, (value) => (value === undefined ? undefined : { value, keepUntil: 1 }))
  await store.close()
}

/** The counts of one store, and its examples of outdated answers, into another. */
async function copyLedger(from: string, to: string): Promise<void> {
  const [source, target] = [openStoreOf(from), openStoreOf(to)]
  const opening = { now: dayStart + 86_400_000, warn() {} }
  await source.open(opening)
  await target.open(opening)
  const all = { since: Number.MIN_SAFE_INTEGER, until: Number.MAX_SAFE_INTEGER }
  for (const details of [false, true]) await target.ledger.add(await source.ledger.read({ ...all, details }))
  for (const facts of await source.ledger.facts()) await target.ledger.addFacts(facts)
  const { now } = opening
  for (const [name, value] of await source.records.records('outdated ', now))
    await target.records.update(name, now, () => ({ value, keepUntil: now + 400 * 86_400_000 }))
  await source.close()
  await target.close()
}
