import { parentPort, workerData } from 'node:worker_threads'
import { memoryStore } from 'stashen'
import { copyLedger } from '../../src/measure/copy-ledger.js'
import { openStoreOf } from './open-store.js'
import { runDay } from './run-day.js'
import { trafficOfDay } from './traffic.js'
import { dayStart, hour } from './world.js'

/** One demo day, as a thread is told of it. */
export interface DayTask {
  readonly mode: 'measure' | 'reuse'
  readonly seed: number
  readonly since: number
  readonly until: number
  /** Where its books end up: a file, or the address of a server. */
  readonly store: string
  /** Where every call of a day of reuse is written down. */
  readonly journal: string
}

/** How often progress is reported, in calls. */
const every = 100

/** Plays one demo day in a thread of its own: reports how many calls were made, and at the end what the providers counted. */
const { mode, seed, since, until, store, journal } = workerData as DayTask
let calls = 0
const day = {
  ...{ mode, seed },
  traffic: trafficOfDay(seed, until, since),
  onCall: () => {
    calls++
    if (calls % every === 0) parentPort?.postMessage({ calls: every })
  },
}
const measured = memoryStore()
const played =
  mode === 'measure' ? await runDay({ ...day, store: () => measured }) : await runDay({ ...day, store: () => openStoreOf(store), journal })
if (mode === 'measure') await copyLedger(measured, openStoreOf(store), dayStart + 24 * hour)
parentPort?.postMessage({ calls: calls % every, ...played })
