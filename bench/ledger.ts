import { once } from 'node:events'
import { mkdtempSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { isMainThread, Worker, workerData } from 'node:worker_threads'
import { uniformFloat64 } from 'pure-rand/distribution/uniformFloat64'
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus'
import { openStash } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import { coarsened } from '../src/core/ledger/coarsen.js'
import { countHit, countTime } from '../src/core/ledger/count-calls.js'
import { type BillingFacts, bucketMs, type Grain, plainRow, type TallyRow } from '../src/core/ledger/ledger-row.js'
import { Tally } from '../src/core/ledger/tally.js'
import { LedgerWriter } from '../src/engine/ledger/ledger-writer.js'
import { systemClock } from '../src/engine/system-clock.js'
import { readReport } from '../src/queries/reports.js'
import { memoryStore } from '../src/stores/memory/store.js'
import { openDriver } from '../src/stores/sqlite/open-driver.js'
import { compare, type Ratio } from './compare.js'

/** What counting a call takes of a fresh fetch hit. */
export async function recordingRatio(): Promise<Ratio> {
  const url = 'https://positions.skerrylight.example/v1/vessels/v-201'
  const stash = await openStash({
    fetch: async () => Response.json({ id: 'v-201' }),
    providers: {
      skerrylight: {
        baseUrl: 'https://positions.skerrylight.example/v1',
        endpoints: { vessel: { request: 'GET /vessels/{id}', freshFor: '1 day' } },
      },
    },
  })
  await stash.fetch(url)
  const line = new LedgerWriter(memoryStore(), 'bench').counter('skerrylight', 'vessel', 'reuse')
  const entry = { bornAt: Date.now() - 60_000 }
  let turn = 0
  const each = 20
  const ratio = await compare({
    name: 'recording a call, of a fresh fetch hit',
    ours: () => {
      for (let i = 0; i < each; i++) {
        const now = systemClock.now()
        countHit(line.at(now), entry, now, { ms: 0.02 * (1 + (turn++ & 63)), status: 200 })
      }
    },
    baseline: async () => {
      for (let i = 0; i < each; i++) await stash.fetch(url)
    },
    limit: 0.05,
    each,
  })
  await stash.close()
  return ratio
}

const hour = 3_600_000
const day = 24 * hour

/** What a report over a year of calls takes of summing the same calls from a journal in SQLite that has an index, and how large the ledger is. */
export async function reportRatio(
  calls: number,
): Promise<{ ratio: Ratio; slowestMs: number; rows: number; bytes: number; journalBytes: number }> {
  const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
  const [ledgerFile, journalFile] = [join(folder, 'ledger.db'), join(folder, 'journal.db')]
  const until = Date.parse('2026-06-30T22:00Z')
  const since = until - 365 * day
  const store = sqliteStore(ledgerFile)
  await store.open({ now: until, warn: console.warn })
  for (let p = 0; p < 6; p++) {
    const plan = { currency: 'EUR', period: 'month', zone: 'Europe/Oslo', perCall: '0.004', included: 1000 } as const
    await store.ledger.addFacts({ provider: `p${p}`, endpoint: null, since, plan })
  }
  await once(new Worker(new URL(import.meta.url), { workerData: { ledgerFile, journalFile, calls, since, until } satisfies Year }), 'exit')
  const report = () => readReport(store, until, { since, until })
  const journal = openDriver(journalFile)
  const sums = journal.prepare(
    'SELECT provider, endpoint, how, count(*), sum(ms), sum(upstream), sum(cost) FROM call WHERE at >= ? AND at < ? GROUP BY provider, endpoint, how',
  )
  const [reportMs, sumMs] = [[] as number[], [] as number[]]
  await report()
  for (let round = 0; round < 3; round++) {
    for (let again = 0; again < 3; again++) reportMs.push(await msOf(report))
    sumMs.push(await msOf(() => sums.all(since, until)))
  }
  const total = (await report()).totals.with?.asked
  if (total !== calls) throw new Error(`the report counts ${total} calls of ${calls}`)
  journal.close()
  await store.close()
  const counting = openDriver(ledgerFile)
  const rows = Number(counting.prepare('SELECT count(*) AS rows FROM ledger').get()?.rows)
  counting.close()
  const [bytes, journalBytes] = [statSync(ledgerFile).size, statSync(journalFile).size]
  rmSync(folder, { recursive: true })
  const [ours, baseline] = [median(reportMs), median(sumMs)]
  const name = `report over ${calls.toLocaleString('en')} calls, of summing them`
  return {
    ratio: { name, ourNs: ours * 1e6, baselineNs: baseline * 1e6, ratio: ours / baseline, limit: 0.05 },
    slowestMs: Math.max(...reportMs),
    rows,
    bytes,
    journalBytes,
  }
}

interface Year {
  readonly ledgerFile: string
  readonly journalFile: string
  readonly calls: number
  readonly since: number
  readonly until: number
}

/** In a thread of its own, so that what is timed does not bear its garbage. */
async function makeUp({ ledgerFile, journalFile, ...year }: Year): Promise<void> {
  const store = sqliteStore(ledgerFile)
  await store.open({ now: year.until, warn: console.warn })
  const facts = await store.ledger.facts()
  fill(journalFile, { ...year, add: (rows) => void store.ledger.add(asKept(rows, year.until, facts).map(plainRow)) })
  await store.close()
}

/** What a ledger keeps at `until` of a day's rows: months and days for ever, the details of hours for 92 days and those of minutes for two. */
function asKept(rows: readonly TallyRow[], until: number, facts: readonly BillingFacts[]): TallyRow[] {
  const hours = rows[0]?.grain === 'minute' ? coarsened(rows, 'hour', facts, undefined) : rows
  const days = longer(hours, 'day', facts)
  const months = longer(days, 'month', facts)
  const all = [...[...hours, ...days].filter(({ isDetail }) => isDetail), ...months]
  return all.filter(
    ({ grain, bucket }) => until - bucket <= (grain === 'hour' ? 92 * day : grain === 'minute' ? 2 * day : Number.POSITIVE_INFINITY),
  )
}

function longer(rows: readonly TallyRow[], grain: 'day' | 'month', facts: readonly BillingFacts[]): TallyRow[] {
  return coarsened(
    rows.filter(({ isDetail }) => !isDetail),
    grain,
    facts,
    undefined,
  )
}

/** Makes up calls, and writes each into a journal table, and adds all to the ledger day by day. */
function fill(
  journalFile: string,
  { calls, since, until, add }: { calls: number; since: number; until: number; add: (rows: TallyRow[]) => void },
): void {
  const journal = openDriver(journalFile)
  journal.exec('PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF')
  journal.exec('CREATE TABLE call (at INTEGER, provider TEXT, endpoint TEXT, how TEXT, ms REAL, upstream INTEGER, cost REAL)')
  const insert = journal.prepare('INSERT INTO call VALUES (?, ?, ?, ?, ?, ?, ?)')
  const generator = xoroshiro128plus(1)
  const random = () => uniformFloat64(generator)
  let open = new Map<string, TallyRow>()
  let dayEnds = since + day
  journal.exec('BEGIN')
  for (let i = 0; i < calls; i++) {
    const at = since + Math.floor(((until - since) * i) / calls)
    if (at >= dayEnds) {
      add([...open.values()])
      open = new Map()
      dayEnds += day
    }
    const endpoint = Math.floor(random() ** 2 * 30)
    const provider = `p${endpoint % 6}`
    const isHit = random() < 0.8
    const ms = isHit ? 0.05 + random() : 40 * (1 - random()) ** -0.6
    insert.run(at, provider, `e${endpoint}`, isHit ? 'hit' : 'forwarded', ms, isHit ? 0 : 1, isHit ? 0 : 0.004)
    const lengthMs = until - at <= 3 * day ? bucketMs : hour
    const bucket = Math.floor(at / lengthMs) * lengthMs
    const place = `${bucket} ${endpoint}`
    const row = open.get(place) ?? rowOf(bucket, lengthMs, provider, `e${endpoint}`)
    open.set(place, row)
    if (isHit) countHit(row.tally, { bornAt: at - random() * hour }, at, { ms, status: 200 })
    else {
      row.tally.forwarded++
      row.tally.upAnswered++
      row.tally.latency.add(ms)
      countTime(row.tally, ms)
    }
  }
  add([...open.values()])
  journal.exec('COMMIT')
  journal.exec('CREATE INDEX call_at ON call (at, provider, endpoint, how, ms, upstream, cost)')
  journal.close()
}

function rowOf(bucket: number, lengthMs: number, provider: string, endpoint: string): TallyRow {
  const grain: Grain = lengthMs === hour ? 'hour' : 'minute'
  return { bucket, grain, lengthMs, mode: 'reuse', provider, endpoint, tally: new Tally() }
}

async function msOf(work: () => unknown): Promise<number> {
  const began = performance.now()
  await work()
  return performance.now() - began
}

if (!isMainThread) await makeUp(workerData as Year)

function median(values: readonly number[]): number {
  return [...values].sort((a, b) => a - b)[values.length >> 1] as number
}
