import { shown } from '../errors/shown.js'
import type { ServerSentEvent } from '../http/server-sent-events.js'
import { type Duration, durationForms, durationMs, shifted } from '../time/duration.js'
import type { Timetable } from '../time/timetable.js'

/** An answer, as a function that says how long it is fresh sees it. */
export interface AnswerFacts {
  /** Status of an HTTP answer; undefined for the value of an operation. */
  readonly status: number | undefined
  /** The value of a header field, or null. */
  header(name: string): string | null
  /** The JSON of the body, or the value of an operation. Throws where the body is not JSON. */
  json(): unknown
  /** The body as text (UTF-8), or the value of an operation that is one; empty where it is none. */
  text(): string
  /** The events of a body of type `text/event-stream`; none of any other. */
  events(): readonly ServerSentEvent[]
}

export type FreshnessFunction = (answer: AnswerFacts) => Duration

/** How long answers are fresh, compiled. Times are milliseconds. */
export type Freshness =
  | { readonly kind: 'for'; readonly duration: Duration; readonly ms: number; readonly jitter: number }
  | { readonly kind: 'until'; readonly next: (now: number) => number }
  | { readonly kind: 'said'; readonly by: FreshnessFunction; readonly jitter: number }

/** The first publication after `now`, as `core/time/timetable.ts` finds it. */
export type NextPublication = (timetable: Timetable, now: number) => number

export interface FreshnessOptions {
  readonly freshFor?: Duration | FreshnessFunction
  readonly freshUntil?: Timetable
  readonly jitter?: number
}

/** Undefined where the options say nothing of freshness, so that nothing is stored. `next`: when the timetable of `freshUntil` comes next. */
export function compileFreshness({ freshFor, freshUntil, jitter = 0 }: FreshnessOptions, next?: NextPublication): Freshness | undefined {
  if (freshUntil) {
    if (!next) throw new TypeError('a timetable without a calendar')
    return { kind: 'until', next: untilPast((now) => next(freshUntil, now)) }
  }
  if (typeof freshFor === 'function') return { kind: 'said', by: freshFor, jitter }
  const ms = durationMs(freshFor)
  return freshFor === undefined || ms === undefined ? undefined : { kind: 'for', duration: freshFor, ms, jitter }
}

/** What comes next, found out again only once that is past, or the clock was set back. */
function untilPast(next: (now: number) => number): (now: number) => number {
  let [since, until] = [0, 0]
  return (now) => {
    if (now < since || now >= until) [since, until] = [now, next(now)]
    return until
  }
}

/**
 * The longest that any answer can be fresh, whatever was stored of it: so that shortening `freshFor` takes effect at once. `others` are
 * lifetimes that hold for some answers. Undefined where none can be fresh.
 */
export function longestFreshMs(freshness: Freshness | undefined, others: readonly number[]): number | undefined {
  if (freshness && freshness.kind !== 'for') return Number.POSITIVE_INFINITY
  const longest = Math.max(freshness?.ms ?? -1, ...others)
  return freshness || longest > 0 ? longest : undefined
}

/** Until when an answer that came at `now` is fresh. Throws what a function of the configuration throws, and a `TypeError` if it does not return a duration. */
export function freshUntilOf(freshness: Freshness, key: string, answer: AnswerFacts, now: number): number {
  if (freshness.kind === 'until') return freshness.next(now)
  const duration = freshness.kind === 'for' ? freshness.duration : freshness.by(answer)
  const until = shifted(now, duration)
  if (until === undefined) throw new TypeError(`its "freshFor" function returned ${shown(duration)}: it has to be ${durationForms}`)
  return now + jittered(until - now, freshness.jitter, key)
}

/** How long an answer is fresh from a use of it on, where each use counts as a new beginning; undefined where none does. */
export function freshFromUseMs(freshness: Freshness | undefined, key: string): number | undefined {
  return freshness?.kind === 'for' ? jittered(freshness.ms, freshness.jitter, key) : undefined
}

function jittered(ms: number, jitter: number, key: string): number {
  return Math.round(ms * (1 - jitter * share(key)))
}

/** A number from 0 to 1 that is always the same for a key and evenly spread over keys (FNV-1a, 32 bits, with a final mix). */
function share(key: string): number {
  let hash = 0x811c9dc5
  for (let i = 0; i < key.length; i++) hash = Math.imul(hash ^ key.charCodeAt(i), 0x01000193)
  hash = Math.imul(hash ^ (hash >>> 16), 0x85ebca6b)
  return ((hash ^ (hash >>> 13)) >>> 0) / 2 ** 32
}
