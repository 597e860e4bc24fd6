import { Worker } from 'node:worker_threads'
import { providers } from './config.js'
import type { DayCounts } from './run-day.js'
import { trafficOfDay } from './traffic.js'

export { zone } from './world.js'

export const demoProviders = Object.keys(providers)

export interface DemoSetting {
  readonly file: string
  readonly seed: number
  /** Told how many calls there will be, and then of calls made. */
  readonly onStart: (calls: number) => void
  readonly onCalls: (calls: number) => void
}

/**
 * Plays the demo day twice, side by side: once only measuring and once reusing, each in a thread with providers of its own, and
 * both in the ledger of one store file. Returns what the providers counted themselves.
 */
export async function runDemo({ file, seed, onStart, onCalls }: DemoSetting): Promise<{ measure: DayCounts; reuse: DayCounts }> {
  onStart(2 * trafficOfDay(seed).length)
  const [measure, reuse] = await Promise.all([playDay('measure'), playDay('reuse')])
  return { measure, reuse }

  function playDay(mode: 'measure' | 'reuse'): Promise<DayCounts> {
    return new Promise((resolve, reject) => {
      const worker = new Worker(new URL('./day-worker.js', import.meta.url), {
        workerData: { file, mode, seed },
        resourceLimits: { maxYoungGenerationSizeMb: 64 },
      })
      worker.on('message', ({ calls, counts }: { calls: number; counts?: DayCounts }) => {
        onCalls(calls)
        if (counts) resolve(counts)
      })
      worker.on('error', reject)
    })
  }
}
