import type { WarmProgress, WarmSummary } from '../../core/entries/warm-summary.js'
import { CallError } from '../../core/errors/call-errors.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Call } from '../call/call.js'
import { Cancellation } from '../cancellation.js'
import { toldTo } from '../onlooker.js'
import { pause } from '../upstream/waiting.js'
import type { BackgroundRefresh, Brought } from './background-refresh.js'
import type { CallRunner } from './call-runner.js'
import { storageAfter } from './outcomes.js'

/** How many calls are under way at once, where nobody says. */
const usualAtOnce = 4

/** How often a call is tried again that had to wait for its turn or for a hold-off, and the least of such a wait, milliseconds. */
const mostTries = 1_000
const mostHeldOff = 3
const leastWaitMs = 50

/** A hold-off that goes on for longer is not waited for, milliseconds: the provider is down. */
const longestHeldOffMs = 30_000

/** How answers are fetched in advance. Times are milliseconds. */
export interface Warming {
  readonly runner: CallRunner
  readonly refresh: BackgroundRefresh
  readonly clock: Clock
  /** Aborts when the stash is closed. */
  readonly closing: Cancellation
}

export interface WarmTerms {
  /** Answers that were stored so long ago are renewed, fresh or not; undefined where only those are that are not fresh. */
  readonly renewAfterMs: number | undefined
  readonly atOnce?: number | undefined
  readonly signal?: AbortSignal | undefined
  readonly onProgress?: ((progress: WarmProgress) => void) | undefined
}

/** Brings answers into the store for calls that nobody has made yet, paced by limits: as background calls, which leave all others their share. */
export async function warm(
  warming: Warming,
  calls: { readonly of: number | null; readonly each: AsyncIterable<() => Maybe<Call<unknown>>> },
  terms: WarmTerms,
): Promise<WarmSummary> {
  const { clock } = warming
  const began = clock.ticks()
  const count = { asked: 0, done: 0, stored: 0, fresh: 0 }
  const [notStored, failed]: Record<string, number>[] = [{}, {}] as const
  const ending = new Cancellation()
  const stop = () => ending.abort(terms.signal?.reason)
  if (terms.signal?.aborted) stop()
  const forget = warming.closing.onAbort(() => ending.abort(warming.closing.reason))
  terms.signal?.addEventListener('abort', stop, { once: true })
  const source = calls.each[Symbol.asyncIterator]()
  const told = toldTo(terms.onProgress)
  const worker = async () => {
    while (!ending.aborted) {
      const { done, value } = await source.next()
      if (done || ending.aborted) return
      count.asked++
      tally(await one(warming, value, terms, ending).catch((error: unknown): One => ({ failed: whyOf(error) })))
      count.done++
      const leftMs = calls.of === null ? null : Math.round(((clock.ticks() - began) / count.done) * (calls.of - count.done))
      told({ done: count.done, of: calls.of, leftMs })
    }
  }
  const tally = (result: One) => {
    if (result === 'stored' || result === 'fresh') count[result]++
    else if ('notStored' in result) notStored[result.notStored] = (notStored[result.notStored] ?? 0) + 1
    else failed[result.failed] = (failed[result.failed] ?? 0) + 1
  }
  try {
    await Promise.all(Array.from({ length: terms.atOnce ?? usualAtOnce }, worker))
  } catch (error) {
    ending.abort(error) // what they are of cannot be read
    throw error
  } finally {
    terms.signal?.removeEventListener('abort', stop)
    forget()
    await source.return?.()
  }
  const { asked, stored, fresh } = count
  return { asked, stored, fresh, notStored, failed, isStopped: ending.aborted, ms: Math.round(clock.ticks() - began) }
}

type One = 'stored' | 'fresh' | { readonly notStored: string } | { readonly failed: string }

async function one(
  { runner, refresh, clock }: Warming,
  made: () => Maybe<Call<unknown>>,
  { renewAfterMs }: WarmTerms,
  ending: Cancellation,
): Promise<One> {
  const call = await made()
  const { mode, freshForMs } = call.endpoint
  if (call.isPassed) return { notStored: 'no-endpoint' }
  if (mode !== 'reuse' || freshForMs === undefined || call.key === undefined || call.bypass || call.excerpt)
    return { notStored: 'not-reusable' }
  let heldOff = 0
  for (let tries = 0; ; tries++) {
    const { found, decision } = await runner.consider(call)
    const isOld = found.entry !== undefined && renewAfterMs !== undefined && clock.now() - found.entry.storedAt >= renewAfterMs
    if (decision.do === 'serve' && decision.refresh !== true && !isOld) return 'fresh'
    const brought = await refresh.bring(call, found)
    if (brought.result !== 'failed') return resultOf(brought)
    const waitUntil = retryAtOf(brought.error)
    if (waitUntil?.isHeldOff) heldOff++
    const isDown = waitUntil?.isHeldOff === true && (heldOff > mostHeldOff || waitUntil.at - clock.now() > longestHeldOffMs)
    if (!waitUntil || isDown || tries >= mostTries || ending.aborted) return { failed: whyOf(brought.error) }
    await pause(clock, Math.max(leastWaitMs, waitUntil.at - clock.now()), ending)
    if (ending.aborted) return { failed: 'stopped' }
  }
}

function resultOf(brought: Exclude<Brought, { result: 'failed' }>): One {
  if (brought.result === 'elsewhere') return 'fresh'
  const { stored, notStored = 'trouble' } = brought.ended ? storageAfter(brought.ended) : {}
  return stored ? 'stored' : { notStored }
}

/** When a call may leave that could not; undefined where waiting is of no use. */
function retryAtOf(error: unknown): { readonly at: number; readonly isHeldOff: boolean } | undefined {
  const { code, retryAt } = error as { code?: string; retryAt?: Date | null }
  if (!(retryAt instanceof Date) || (code !== 'LIMIT_REACHED' && code !== 'HELD_OFF')) return undefined
  return { at: retryAt.getTime(), isHeldOff: code === 'HELD_OFF' }
}

function whyOf(error: unknown): string {
  return error instanceof CallError ? error.code : error instanceof Error ? error.message.slice(0, 100) : String(error).slice(0, 100)
}
