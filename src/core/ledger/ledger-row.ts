import type { WindowedCalls } from '../limits/limit.js'
import type { Quota } from '../limits/quota.js'
import type { PlanOptions } from '../money/plan.js'
import type { Mode } from '../rules/mode.js'
import type { Tally } from './tally.js'
import type { TallyData } from './tally-data.js'

/** Under which mode calls were counted; those answered offline count as reused. */
export type LedgerMode = Exclude<Mode, 'offline'>

/** Length of the time bucket that calls are counted in, milliseconds; every such bucket begins at a multiple of it. */
export const bucketMs = 60_000

/** How long time buckets are, finest first: minutes are put together into hours once these are over, hours into days, and days into months. */
export const grains = ['minute', 'hour', 'day', 'month'] as const
export type Grain = (typeof grains)[number]

/** The tally of one endpoint in one mode and one time bucket, as plain data. */
export interface LedgerRow {
  /** Begin of the bucket, milliseconds since 1970-01-01T00:00Z. */
  readonly bucket: number
  readonly grain: Grain
  /** How long the bucket is, milliseconds: a day need not have 24 hours. */
  readonly lengthMs: number
  /** Whether it is kept besides a longer bucket that holds the same calls, for when finer times are asked for. */
  readonly isDetail?: boolean
  readonly mode: LedgerMode
  readonly provider: string
  readonly endpoint: string
  readonly tally: TallyData
}

/** Whose rows some are: an endpoint in a mode. */
export type LedgerAccount = Pick<LedgerRow, 'mode' | 'provider' | 'endpoint'>

/** The same, with a tally that can be counted in. */
export interface TallyRow extends Omit<LedgerRow, 'tally'> {
  readonly tally: Tally
  /** Whose calls of the endpoint these are, where they were taken apart for a report; null: nobody's in particular. */
  readonly countedFor?: string | null
}

export function plainRow(row: TallyRow): LedgerRow {
  return { ...row, tally: row.tally.toJSON() }
}

/** What says which row of the ledger a row is. */
export function placeOfRow({ bucket, grain, isDetail = false, mode, provider, endpoint }: Omit<LedgerRow, 'tally' | 'lengthMs'>): string {
  return JSON.stringify([bucket, grain, isDetail, mode, provider, endpoint])
}

export function accountName({ mode, provider, endpoint }: LedgerAccount): string {
  return JSON.stringify([mode, provider, endpoint])
}

/** The grain of the details of a row, which together hold the same calls. */
export const finerThan = { month: 'day', day: 'hour', hour: 'minute' } as const

/** The moment that a row counts for where times are distinguished: the begin of a minute, the middle of what is longer. */
export function momentOf({ bucket, grain, lengthMs }: Pick<TallyRow, 'bucket' | 'grain' | 'lengthMs'>): number {
  return grain === 'minute' ? bucket : bucket + Math.floor(lengthMs / 2)
}

/** What the ledger must know to price and weigh the calls of a provider, or of one of its endpoints, from `since` on. */
export interface BillingFacts {
  readonly provider: string
  /** Null where it holds for the provider as a whole. */
  readonly endpoint: string | null
  readonly since: number
  readonly plan?: PlanOptions | undefined
  /** Of an endpoint: the price of one of its calls, where that is its own, and how much one counts in the plan. */
  readonly price?: { readonly perCall?: string | undefined; readonly weight?: number | undefined } | undefined
  readonly quota?: Quota | undefined
  /** Windows of the limits that the provider sets on all its calls. */
  readonly limits?: readonly WindowedCalls[] | undefined
  /** IANA time zone of the days of the provider's usage export, where it is said. */
  readonly exportZone?: string | undefined
  /** Of all providers together. */
  readonly rates?: ExchangeRates | undefined
}

/** What one unit of other currencies is in `currency`: decimals, by ISO 4217 code. */
export interface ExchangeRates {
  readonly currency: string
  readonly rates: Readonly<Record<string, string>>
}

/** Stands for the provider of facts that hold for all of them. */
export const everyProvider = '(all)'
