import { parentPort, workerData } from 'node:worker_threads'
import { type DaySetting, runDay } from './run-day.js'
import { trafficOfDay } from './traffic.js'

/** How often progress is told, in calls. */
const every = 100

/** Plays one demo day in a thread of its own: tells how many calls have left, and at the end what the providers counted. */
let calls = 0
const { store, file, mode, seed, until } = workerData as Pick<DaySetting, 'store' | 'file' | 'mode' | 'seed'> & { readonly until: number }
const { counts, usage } = await runDay({
  ...{ store, file, mode, seed },
  traffic: trafficOfDay(seed, until),
  onCall: () => {
    calls++
    if (calls % every === 0) parentPort?.postMessage({ calls: every })
  },
})
parentPort?.postMessage({ calls: calls % every, counts, usage })
