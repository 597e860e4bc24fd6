import { UsageError } from '../core/errors/setup-errors.js'
import { shown } from '../core/errors/shown.js'
import { inTurns } from '../core/in-pieces.js'
import { type BillingFacts, bucketMs, type TallyRow } from '../core/ledger/ledger-row.js'
import { forecastFromMs } from '../core/ledger/quota-use.js'
import { reportSteps, rowsSince } from '../core/ledger/report.js'
import type { ReportInput } from '../core/ledger/report-input.js'
import type { Comparison, Report } from '../core/ledger/report-model.js'
import type { Journal } from '../core/ports/journal.js'
import type { Store } from '../core/ports/store.js'
import { type Moment, momentForms, momentMs } from '../core/time/moment.js'
import { isTimeZone } from '../core/time/time-zone.js'
import { statusOfProviders } from '../engine/gate/provider-records.js'
import { readOutdatedExamples } from '../engine/ledger/outdated-examples.js'
import { type Reading, readFacts, readRows } from '../engine/ledger/read-rows.js'
import { systemClock } from '../engine/system-clock.js'
import { type ReportOptions, reportBys } from '../stash.js'
import { readKeys } from './keys.js'

/** What is known besides what a store holds. */
export interface KnownBesides {
  readonly unwritten?: readonly TallyRow[]
  readonly journal?: Pick<Journal, 'read'> | undefined
  /** Providers whose plans are in use now, so that their fees fall due though nothing is called. */
  readonly inUse?: readonly string[]
  /** By what time others come between. Default: the system's. */
  readonly clock?: Reading['clock']
  /** Told how far the ledger was read, in steps, and of how many. */
  readonly onProgress?: Reading['onProgress']
}

/** The report of what a store's ledger holds, and of rows that it did not take yet. Throws code `USAGE` for a moment that is none. */
export async function readReport(
  store: Store,
  now: number,
  options: ReportOptions = {},
  { unwritten = [], journal, inUse = [], clock = systemClock, onProgress }: KnownBesides = {},
): Promise<Report> {
  const { since, until, zone = 'UTC', by, ...unknown } = options
  for (const name of Object.keys(unknown)) throw new UsageError(`a report has no option "${name}": it has since, until, zone and by`)
  if (!isTimeZone(zone)) throw new UsageError(`"zone" is ${shown(zone)}, which is not a time zone: give an IANA name, e.g. "Europe/Oslo"`)
  if (by !== undefined && !reportBys.includes(by))
    throw new UsageError(`"by" is ${shown(by)}: give ${reportBys.map((one) => `"${one}"`).join(', ')}`)
  if (by === 'key' && !journal)
    throw new UsageError('"by" is "key", for which a journal is needed: open the stash with "journal", e.g. fileJournal("./calls.jsonl")')
  const from = since === undefined ? 0 : bucketOf(momentOf(since, 'since', now, zone))
  const to = until === undefined ? Number.MAX_SAFE_INTEGER : momentOf(until, 'until', now, zone)
  const { facts, unreadable: unreadableFacts } = await readFacts(store)
  const begin = from === 0 ? 0 : Math.min(from, rowsSince(facts, from))
  const reading: Reading = { store, clock, details: new Map() }
  const { rows, unreadable } = await readRows(
    { ...reading, onProgress },
    { since: begin, until: to, cuts: [from, to], finest: by === 'hour' || by === 'day' ? by : 'month' },
    unwritten,
  )
  const end = Math.min(to, now)
  const times = by === 'hour' || by === 'day' ? { by, zone } : undefined
  const isInUse = (provider: string) => until !== undefined || inUse.includes(provider)
  const steps = reportSteps({
    rows,
    facts,
    since: from,
    until: end,
    times,
    isInUse,
    budgets: to < now ? new Map() : await budgetsOf(store, rows, now),
    ...(await forecastInput(reading, facts, { end, now }, unwritten)),
  })
  const counted = await inTurns(clock, steps)
  const isAll = unreadable + unreadableFacts === 0
  const withExamples = await withOutdatedExamples(counted, store, now)
  const report = isAll ? withExamples : { ...withExamples, unreadable: { rows: unreadable, facts: unreadableFacts } }
  if (by === 'provider') return { ...report, providers: report.providers.map((provider) => ({ ...provider, endpoints: [] })) }
  if (by === 'label') return { ...report, providers: report.providers.map((one) => (one.labels ? { ...one, endpoints: [] } : one)) }
  return by === 'key' && journal ? { ...report, byKey: await readKeys(journal, from, to) } : report
}

/** How far budgets were spent as of the last of some rows. */
async function budgetsOf(store: Store, rows: readonly TallyRow[], now: number): Promise<NonNullable<ReportInput['budgets']>> {
  const last = rows.reduce((end, { bucket, lengthMs }) => Math.max(end, bucket + lengthMs - 1), 0)
  const statuses = last === 0 ? [] : await statusOfProviders(store.records, Math.min(now, last))
  return new Map(statuses.map(({ provider, budgets }) => [provider, budgets]))
}

/** With an example for each endpoint of which reuse would have given outdated answers. */
async function withOutdatedExamples(report: Report, store: Store, now: number): Promise<Report> {
  const isOutdated = ({ without, with: made }: Comparison) =>
    [without, made].some((one) => one !== null && 'wouldBeOutdated' in one && one.wouldBeOutdated > 0)
  if (!report.providers.some(({ endpoints }) => endpoints.some(isOutdated))) return report
  const exampleOf = await readOutdatedExamples(store.records, now)
  const providers = report.providers.map((one) => ({
    ...one,
    endpoints: one.endpoints.map((endpoint) =>
      isOutdated(endpoint) ? { ...endpoint, ...exampleOf(one.provider, endpoint.endpoint) } : endpoint,
    ),
  }))
  return { ...report, providers }
}

/** What quotas and bills are forecast by, where there are any and the report ends in the middle of their period. */
async function forecastInput(
  reading: Reading,
  facts: readonly BillingFacts[],
  { end, now }: { readonly end: number; readonly now: number },
  unwritten: readonly TallyRow[],
): Promise<Pick<ReportInput, 'recent' | 'standing'>> {
  if (!facts.some(({ quota, plan }) => quota || (plan && !plan.prepaid))) return {}
  const since = end - forecastFromMs
  // days will do for bills of longer periods: hours are many
  const isByHour = facts.some(({ quota, plan }) => quota || plan?.period === 'day')
  const wanted = { since, until: end, cuts: [since, end], finest: isByHour ? 'hour' : 'day' } as const
  const { rows: recent } = await readRows(reading, wanted, unwritten)
  const standing = end === now ? await statusOfProviders(reading.store.records, now) : []
  return { recent, standing: new Map(standing.map((status) => [status.provider, status])) }
}

function momentOf(moment: Moment, option: string, now: number, zone: string): number {
  const ms = momentMs(moment, now, zone)
  if (ms !== undefined) return ms
  throw new UsageError(`"${option}" is ${shown(moment)}, which is not a moment: give ${momentForms}`)
}

/** Begin of the bucket that a moment falls in: buckets are reported whole. */
function bucketOf(ms: number): number {
  return Math.floor(ms / bucketMs) * bucketMs
}
