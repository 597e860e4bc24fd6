import type { WarmSummary } from '../../core/entries/warm-summary.js'
import { UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import { OnDemand } from '../../core/on-demand.js'
import type { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { type Duration, durationMs } from '../../core/time/duration.js'
import type { Timetable } from '../../core/time/timetable.js'
import { type WarmOptions, warmTerms } from '../answer/warm-options.js'
import type { Warming } from '../answer/warming.js'
import { Cancellation } from '../cancellation.js'
import type { FetchHandler } from './fetch-handler.js'
import type { WarmRequest } from './warm-request.js'

/** What fetches in advance, and what finds the moments of timetables. */
export const warmingCode = new OnDemand(() => import('./warm-requests.js'))
export const publicationCode = new OnDemand(() => import('../../core/time/next-publication.js'))

/** How answers are fetched in advance again and again. */
export interface KeepWarmOptions extends WarmOptions {
  /** Called with what came of each time. */
  readonly onDone?: (summary: WarmSummary) => void
}

/** What is fetched in advance each time: a list, or a function that returns one anew. */
export type WarmList = Iterable<WarmRequest> | AsyncIterable<WarmRequest>
export type WarmLists = WarmList | (() => Maybe<WarmList>)

export interface KeepWarmParts {
  readonly http: FetchHandler
  readonly warming: Warming
  readonly troubles: OncePerEpisode
}

/** Fetches in advance now, and then at each moment of `when`, which was checked, until the returned function is called or the stash closes. */
export function keepWarm(
  { http, warming, troubles }: KeepWarmParts,
  when: Duration | Timetable,
  requests: WarmLists,
  { onDone, signal, ...options }: KeepWarmOptions,
): () => void {
  warmTerms(options)
  if (typeof requests !== 'function' && isUsedUp(requests))
    throw new UsageError(
      `what to keep warm is ${shown(requests)}: give a list that can be gone through again, or a function that returns one each time`,
    )
  const { clock, closing } = warming
  const ending = new Cancellation()
  let cancel = () => {}
  const stop = () => {
    ending.abort(new DOMException('it is kept warm no longer', 'AbortError'))
    cancel()
    signal?.removeEventListener('abort', stop)
    forget()
  }
  const forget = closing.onAbort(stop)
  const waitUntil = (at: number): void => {
    cancel = clock.later(Math.max(1, at - clock.now()), () => (clock.now() < at ? waitUntil(at) : void turn()))
  }
  async function turn(): Promise<void> {
    try {
      const list = typeof requests === 'function' ? await requests() : requests
      const { warmRequests } = await warmingCode.get()
      const summary = await warmRequests({ http, warming }, list, { ...options, signal: ending.signal })
      if (!ending.aborted) onDone?.(summary)
      troubles.fine(what)
    } catch (error) {
      if (!ending.aborted) troubles.trouble(what, error, what)
    }
    const at = await nextAt(when, clock.now())
    if (!ending.aborted) waitUntil(at)
  }
  signal?.addEventListener('abort', stop, { once: true })
  if (signal?.aborted) stop()
  else void turn()
  return stop
}

const what = 'keeping warm fails, it is tried again the next time'

/** Where the code of calendars cannot be loaded, it is tried again so much later, milliseconds. */
const loadAgainMs = 60_000

async function nextAt(when: Duration | Timetable, now: number): Promise<number> {
  if (typeof when !== 'object') return now + (durationMs(when) as number)
  const calendar = await publicationCode.get().catch(() => undefined)
  return calendar ? calendar.nextPublication(when, now) : now + loadAgainMs
}

/** Whether a second look at a list would find nothing. */
function isUsedUp(list: WarmList): boolean {
  const its = list as { [Symbol.iterator]?(): unknown; [Symbol.asyncIterator]?(): unknown } | null
  if (typeof its !== 'object' || its === null) return true
  const iterate = its[Symbol.iterator] ?? its[Symbol.asyncIterator]
  return iterate === undefined || iterate.call(its) === its
}
