import { defaults } from '../defaults.js'
import { type Duration, durationMs } from '../time/duration.js'
import type { Quota } from './quota.js'

/** Lengths of windows that have a name. */
export const windowUnits = ['second', 'minute', 'hour', 'day', 'week', 'month', 'year'] as const
export type WindowUnit = (typeof windowUnits)[number]

/** How the windows of a limit lie in time: see `LimitOptions`. */
export const windowKinds = ['rolling', 'aligned', 'fixed'] as const
export type WindowKind = (typeof windowKinds)[number]

/** A limit that a provider sets on calls. */
export type LimitOptions =
  /**
   * So many calls in a window. `rolling` (default): in any stretch of that length. `aligned`: in each one that begins with the clock,
   * days and longer in the calendar of `zone` (default UTC). `fixed`: in each one that begins with the first call after the last.
   */
  | {
      readonly calls: number
      readonly per: WindowUnit | Duration
      readonly window?: WindowKind
      readonly zone?: string
      readonly reserved?: number
      readonly burst?: undefined
      readonly atOnce?: undefined
    }
  /** A bucket of `burst` tokens, of which each call takes one; it fills up again by `calls` tokens `per` time. */
  | {
      readonly calls: number
      readonly per: WindowUnit | Duration
      readonly burst: number
      readonly reserved?: number
      readonly window?: undefined
      readonly zone?: undefined
      readonly atOnce?: undefined
    }
  /**
   * So many calls under way at once; one that was given up counts no more, for its connection is closed. `reserved`, here and above: the
   * share (0 to 1) that background calls leave to others. Default 0.2; below 1 at least one call is left to them.
   */
  | {
      readonly atOnce: number
      readonly reserved?: number
      readonly calls?: undefined
      readonly per?: undefined
      readonly burst?: undefined
      readonly window?: undefined
      readonly zone?: undefined
    }

interface Sized {
  /** Tells it from the others of its provider, also once its size was changed. */
  readonly id: string
  /** What it is, e.g. `30 calls per minute`. */
  readonly name: string
  /** Whether it holds for the provider as a whole. */
  readonly providerWide: boolean
  /** A quota: background calls get of it what is due by now of an even pace. */
  readonly paced?: boolean
  /** Calls allowed, and how many of them to background calls. */
  readonly calls: number
  readonly inBackground: number
}

/** What kind of limit one is: a window, a bucket or calls at once. */
export type LimitKind = WindowKind | 'bucket' | 'at-once'

/** A limit, compiled. Durations are milliseconds. */
export type Limit = Sized &
  (
    | { readonly kind: 'rolling' | 'fixed'; readonly perMs: number }
    | {
        readonly kind: 'aligned'
        readonly perMs: number
        readonly calendar: { readonly unit: CalendarUnit; readonly zone: string } | undefined
      }
    | { readonly kind: 'bucket'; readonly perCallMs: number }
    | { readonly kind: 'at-once' }
  )

type CalendarUnit = 'day' | 'week' | 'month' | 'year'

/** The longest that each unit can be, so that a window is never taken for over too early. */
const longestMs: Record<WindowUnit, number> = {
  second: 1_000,
  minute: 60_000,
  hour: 3_600_000,
  day: 25 * 3_600_000,
  week: 169 * 3_600_000,
  month: 31 * 86_400_000 + 3_600_000,
  year: 366 * 86_400_000,
}

/** So many calls in every stretch of time of a length. */
export interface WindowedCalls {
  readonly calls: number
  readonly perMs: number
}

/** The window of a limit; undefined for one of bursts or of calls at once. */
export function windowOf(options: LimitOptions): WindowedCalls | undefined {
  return options.atOnce !== undefined || options.burst !== undefined ? undefined : { calls: options.calls, perMs: windowMs(options.per) }
}

/** Compiles options that have been checked. `endpoint` is the one it belongs to, if it is not the provider's. */
export function compileLimit(options: LimitOptions, endpoint?: string): Limit {
  const { reserved = defaults.reserved } = options
  const sized = (calls: number, kind: string, name: string): Sized => ({
    ...{ calls, providerWide: endpoint === undefined },
    inBackground: Math.max(reserved < 1 ? 1 : 0, Math.floor(calls * (1 - reserved) + 1e-9)),
    id: endpoint === undefined ? kind : `${endpoint} ${kind}`,
    name: endpoint === undefined ? name : `${name} to ${endpoint}`,
  })
  if (options.atOnce !== undefined) return { kind: 'at-once', ...sized(options.atOnce, 'at-once', `${options.atOnce} at once`) }
  const { calls, per } = options
  const perMs = windowMs(per)
  const words = `${calls} calls per ${per}`
  if (options.burst !== undefined) {
    return { kind: 'bucket', perCallMs: perMs / calls, ...sized(options.burst, `bucket ${perMs}`, `${words}, ${options.burst} in a burst`) }
  }
  const { window = defaults.window, zone = defaults.zone } = options
  const size = sized(calls, `${window} ${perMs}`, window === 'rolling' ? words : `${words}, ${window}`)
  if (window !== 'aligned') return { kind: window, perMs, ...size }
  return { kind: window, perMs, calendar: isCalendarUnit(per) ? { unit: per, zone } : undefined, ...size }
}

/** The quota of a provider as a limit. */
export function compileQuota({ calls, per, zone }: Quota): Limit {
  const limit = compileLimit({ calls, per, window: 'aligned', zone, reserved: 0 })
  return { ...limit, id: quotaId(per), name: `quota of ${calls.toLocaleString('en')} calls per ${per}`, paced: true }
}

/** What the limit of a quota is found by, and what a provider says is left of it. */
export function quotaId(per: Quota['per']): string {
  return `quota ${per}`
}

/** The longest that a window can be, milliseconds. */
function windowMs(per: WindowUnit | Duration): number {
  return longestMs[per as WindowUnit] ?? (durationMs(per) as number)
}

function isCalendarUnit(per: unknown): per is CalendarUnit {
  return per === 'day' || per === 'week' || per === 'month' || per === 'year'
}
