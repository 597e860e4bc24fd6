import type { StashConfig } from '../config/stash-config.js'
import type { Outcome } from '../core/decide/outcome.js'
import type { Clock } from '../core/ports/clock.js'
import type { Store } from '../core/ports/store.js'
import type { Tried, TryStep } from '../core/traffic/tried.js'
import { systemClock } from '../engine/system-clock.js'
import { openStash } from '../open-stash.js'
import type { Stash } from '../stash.js'
import { memoryStore } from '../stores/memory/store.js'

export interface TryOptions {
  readonly url: string
  /** JSON that is posted; undefined for a GET. */
  readonly body: string | undefined
  readonly headers: [string, string][]
  /** What covers the URL; its store is not used. */
  readonly config: StashConfig
  /** Where the answer is kept of the calls at the end. */
  readonly store: Store
  readonly times: number
  readonly atOnce: number
}

/** Calls a URL in all the ways that show what reuse does: bare, through a stash, again, once it has expired, with the provider cut off; then many times. */
export async function tryRequest({ url, body, headers, config, store, times, atOnce }: TryOptions): Promise<Tried> {
  const { fetch } = globalThis
  const init = posting(body, headers)
  let [upstreamCalls, isCutOff, aheadMs] = [0, false, 0]
  const counted: typeof fetch = (input, init) => {
    if (isCutOff) return Promise.reject(new TypeError('the provider is cut off'))
    upstreamCalls++
    return fetch(input, init)
  }
  const common = { ...config, mode: 'reuse', fetch: counted, warn: () => {} } as const
  const clock: Clock = { ...systemClock, now: () => systemClock.now() + aheadMs }
  const steps: TryStep[] = []
  const step = async (name: TryStep['name'], by: typeof fetch, stash?: Stash) => {
    const began = performance.now()
    let outcome: Outcome | undefined
    let [status, error]: [number | undefined, string | undefined] = [undefined, undefined]
    try {
      const response = await by(url, init)
      await response.arrayBuffer()
      status = response.status
      outcome = stash?.outcomeOf(response)
    } catch (cause) {
      outcome = stash?.outcomeOf(cause)
      error = cause instanceof Error ? cause.message : String(cause)
    }
    const { how, reason, ageMs } = outcome ?? {}
    steps.push({ name, ms: performance.now() - began, status, how, reason, ageMs, error })
    return outcome
  }

  await step('bare', counted)
  const stash = await openStash({ ...common, store: memoryStore(), clock })
  let first: Outcome | undefined
  try {
    first = await step('first', stash.fetch, stash)
    const again = await step('again', stash.fetch, stash)
    if (again?.freshUntil) {
      aheadMs = again.freshUntil.getTime() - systemClock.now() + 1_000
      const renewed = await step('expired', stash.fetch, stash)
      aheadMs = Math.max(aheadMs, (renewed?.freshUntil?.getTime() ?? 0) - systemClock.now() + 1_000)
      isCutOff = true
      await step('cut-off', stash.fetch, stash)
      isCutOff = false
    }
  } finally {
    await stash.close()
  }
  const many = await openStash({ ...common, store })
  try {
    const load = await callMany(() => many.fetch(url, init), { times, atOnce })
    const freshForMs = first?.freshUntil && first.freshUntil.getTime() - systemClock.now()
    const endpoint = first ? `${first.provider}.${first.endpoint}` : ''
    return { endpoint, freshForMs, notStored: first?.notStored, steps, load, upstreamCalls }
  } finally {
    await many.close()
  }
}

/** The options of the request that is tried. */
export function posting(body: string | undefined, headers: readonly [string, string][] = []): RequestInit {
  return body === undefined
    ? { headers: [...headers] }
    : { method: 'POST', body, headers: [['content-type', 'application/json'], ...headers] }
}

async function callMany(call: () => Promise<Response>, { times, atOnce }: Pick<TryOptions, 'times' | 'atOnce'>): Promise<Tried['load']> {
  const took: number[] = []
  let [begun, failed] = [0, 0]
  const one = async () => {
    while (begun++ < times) {
      const began = performance.now()
      await call().then(
        (response) => response.arrayBuffer(),
        () => failed++,
      )
      took.push(performance.now() - began)
    }
  }
  const began = performance.now()
  await Promise.all(Array.from({ length: Math.min(atOnce, times) }, one))
  const medianMs = took.sort((a, b) => a - b)[Math.ceil(took.length / 2) - 1] ?? 0
  return { calls: times, atOnce, ms: performance.now() - began, medianMs, failed }
}
