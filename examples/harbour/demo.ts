import { writeFileSync } from 'node:fs'
import { Worker } from 'node:worker_threads'
import { stringify } from 'csv-stringify/sync'
import { providers } from './config.js'
import type { DayTask } from './day-worker.js'
import { isServer, openStoreOf } from './open-store.js'
import type { DayCounts, DayUsage } from './run-day.js'
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
  /** Only the calls of the day from this moment on, and before that one; default: all. */
  readonly since?: number
  readonly until?: number
  /** Reported how many calls there will be, and then of calls made. */
  readonly onStart: (calls: number) => void
  readonly onCalls: (calls: number) => void
}

/**
 * Plays the demo day twice, side by side: once only measuring, on a store in memory, and once reusing, on `store`; each in a thread with providers of its own.
 * At the end both are in the ledger of `store`. Leaves beside it, of the day of reuse, a journal of the calls, and for each provider what it bills, as CSV.
 * Returns what the providers counted and billed themselves.
 */
export async function runDemo({
  store,
  file = store,
  seed,
  since = dayStart,
  until = Number.POSITIVE_INFINITY,
  onStart,
  onCalls,
}: DemoSetting): Promise<{ measure: Day; reuse: Day }> {
  if (isServer(store)) await emptied(store)
  onStart(2 * trafficOfDay(seed, until, since).length)
  const task = { seed, since, until, store, journal: `${file}.calls.jsonl` }
  const [measure, reuse] = await Promise.all([playDay({ ...task, mode: 'measure' }, onCalls), playDay({ ...task, mode: 'reuse' }, onCalls)])
  for (const [provider, days] of Object.entries(reuse.usage)) {
    writeFileSync(`${file}.${provider}-usage.csv`, stringify([['day', 'calls'], ...days.map((line) => [...line])]))
  }
  return { measure, reuse }
}

function playDay(task: DayTask, onCalls: DemoSetting['onCalls']): Promise<Day> {
  return new Promise((resolve, reject) => {
    const worker = new Worker(new URL('./day-worker.js', import.meta.url), {
      workerData: task,
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
