import { writeFileSync } from 'node:fs'
import { Worker } from 'node:worker_threads'
import { stringify } from 'csv-stringify/sync'
import { providers } from './config.js'
import type { DayCounts, DayUsage } from './run-day.js'
import { trafficOfDay } from './traffic.js'

export { zone } from './world.js'

export const demoProviders = Object.keys(providers)

interface Day {
  readonly counts: DayCounts
  readonly usage: DayUsage
}

export interface DemoSetting {
  readonly file: string
  readonly seed: number
  /** Reported how many calls there will be, and then of calls made. */
  readonly onStart: (calls: number) => void
  readonly onCalls: (calls: number) => void
}

/**
 * Plays the demo day twice, side by side: once only measuring and once reusing, each in a thread with providers of its own, and
 * both in the ledger of one store file. Leaves beside it, of the day of reuse, a journal of the calls, and for each provider what it bills, as CSV. Returns what the
 * providers counted and billed themselves.
 */
export async function runDemo({ file, seed, onStart, onCalls }: DemoSetting): Promise<{ measure: Day; reuse: Day }> {
  onStart(2 * trafficOfDay(seed).length)
  const [measure, reuse] = await Promise.all([playDay('measure'), playDay('reuse')])
  for (const [provider, days] of Object.entries(reuse.usage)) {
    writeFileSync(`${file}.${provider}-usage.csv`, stringify([['day', 'calls'], ...days.map((line) => [...line])]))
  }
  return { measure, reuse }

  function playDay(mode: 'measure' | 'reuse'): Promise<Day> {
    return new Promise((resolve, reject) => {
      const worker = new Worker(new URL('./day-worker.js', import.meta.url), {
        workerData: { file, mode, seed },
        resourceLimits: { maxYoungGenerationSizeMb: 64 },
      })
      worker.on('message', ({ calls, counts, usage }: { calls: number; counts?: DayCounts; usage?: DayUsage }) => {
        onCalls(calls)
        if (counts && usage) resolve({ counts, usage })
      })
      worker.on('error', reject)
    })
  }
}
