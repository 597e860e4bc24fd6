import type { WarmProgress } from '../../core/entries/warm-summary.js'
import { assertOptions } from '../../core/errors/assert-options.js'
import { UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import { type Duration, durationMs } from '../../core/time/duration.js'
import type { WarmTerms } from './warming.js'

/** How answers are fetched in advance. */
export interface WarmOptions {
  /**
   * Whether answers that are fresh are renewed too: all (`true`), or those that were stored at least so long ago, so that one that was stopped goes on where
   * it was. The older ones are given until the new ones are there. Default: only what is not stored, or not fresh.
   */
  readonly renew?: boolean | Duration
  /** Calls under way at once, at the most. Default 4. */
  readonly atOnce?: number
  /** Header fields that each request is sent with besides its own, such as credentials. */
  readonly headers?: Readonly<Record<string, string>>
  /** Stops it when it aborts: what is done stays done. */
  readonly signal?: AbortSignal
  /** Called after each. */
  readonly onProgress?: (progress: WarmProgress) => void
}

/** What calls are made for that fetch in advance, as events and journal lines name it. */
export const warmLabel = 'warm'

const names = ['renew', 'atOnce', 'headers', 'signal', 'onProgress']

/** Throws code `USAGE` where an option is none. */
export function warmTerms(options: WarmOptions): WarmTerms {
  assertOptions('warm', options, names, ['onProgress'])
  const { renew = false, atOnce, signal, onProgress } = options
  const renewAfterMs = typeof renew === 'boolean' ? (renew ? 0 : undefined) : durationMs(renew)
  if (typeof renew !== 'boolean' && renewAfterMs === undefined)
    throw new UsageError(`"renew" of warm is ${shown(renew)}: give true, or a duration such as "1 hour"`)
  if (atOnce !== undefined && !(Number.isSafeInteger(atOnce) && atOnce > 0 && atOnce <= 1_000))
    throw new UsageError(`"atOnce" of warm is ${shown(atOnce)}: give a whole number from 1 to 1000`)
  if (signal !== undefined && typeof signal?.addEventListener !== 'function')
    throw new UsageError(`"signal" of warm is ${shown(signal)}: give an AbortSignal`)
  return { renewAfterMs, atOnce, signal, onProgress }
}

/** How many there are, where that is known beforehand. */
export function countOf(all: object): number | null {
  return Array.isArray(all) ? all.length : all instanceof Set ? all.size : null
}
