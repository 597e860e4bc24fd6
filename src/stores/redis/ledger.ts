import { isKnown } from '../../core/ledger/facts-in-force.js'
import { type BillingFacts, type Grain, grains, type LedgerAccount, type LedgerRow, placeOfRow } from '../../core/ledger/ledger-row.js'
import { sumTallies } from '../../core/ledger/sum-tallies.js'
import type { TallyData } from '../../core/ledger/tally-data.js'
import type { LedgerBatch, LedgerSpan, LedgerStore } from '../../core/ports/ledger-store.js'
import { factsScript, ledgerScript, rowsScript } from './ledger-scripts.js'
import type { RedisLink } from './link.js'
import type { Places } from './places.js'

/** Rows dropped in one piece, at the most. */
const droppedAtOnce = 200

/** How long facts that were read stand for those that there are, milliseconds. */
const factsHoldMs = 1_000

/** How long a writer is remembered after its latest batch, milliseconds. */
const writerForMs = 86_400_000

/** What a field holds, and what is to take its place. */
type Change = readonly [hash: string, field: string, before: string | null, after: string | null]

/** The rows of an account and grain are a hash, by the begin of their buckets. What adds is compared and set, and tried again. */
export class RedisLedger implements LedgerStore {
  readonly #link: RedisLink
  readonly #base: string
  /** The facts that were read last, and when: opening adds many, which are known mostly. */
  #latest: { readonly facts: BillingFacts[]; readonly at: number } | undefined
  /** What this process adds goes one after the other. */
  #adding: Promise<unknown> = Promise.resolve()

  readonly addLast: LedgerStore['addLast']

  /** `addLast`: undefined where the server can only be reached through a given client. */
  constructor(link: RedisLink, places: Places, addLast: LedgerStore['addLast']) {
    this.#link = link
    this.#base = places.ledger
    this.addLast = addLast
  }

  add(rows: readonly LedgerRow[], batch?: LedgerBatch): Promise<void> {
    return this.#inTurn(async () => {
      const sums = summedUp(rows)
      while (!(await this.#change(await this.#added(sums, new Map()), sums, batch)));
    })
  }

  /** The changes that add rows to what is there, where `gone` does not say what is. */
  async #added(rows: readonly LedgerRow[], gone: ReadonlyMap<string, string | null>): Promise<Change[]> {
    return Promise.all(
      rows.map(async (row): Promise<Change> => {
        const [hash, field] = fieldOf(row)
        const place = placeOfRow(row)
        if (gone.has(place)) return [hash, field, gone.get(place) ?? null, textOf(row)]
        const there = (await this.#link.send(`${this.#base}${hash}`, ['HGET', `${this.#base}${hash}`, field])) as string | null
        const sum = there === null ? row.tally : sumTallies(rowOf(there).tally, row.tally)
        return [hash, field, there, textOf({ ...row, tally: sum })]
      }),
    )
  }

  /** Returns whether nothing is left to do. */
  async #change(changes: readonly Change[], accounts: readonly LedgerAccount[], batch?: LedgerBatch): Promise<boolean> {
    if (changes.length === 0) return true
    const names = JSON.stringify([...new Set(accounts.map(nameOf))])
    const of = batch ? [batch.writer, String(batch.number)] : ['', '0']
    const args = [this.#base, JSON.stringify(changes), names, ...of, String(writerForMs)]
    return (await this.#link.run(ledgerScript, `${this.#base}accounts`, args)) !== 0
  }

  async accounts(): Promise<LedgerAccount[]> {
    const names = [...((await this.#link.send(`${this.#base}accounts`, ['SMEMBERS', `${this.#base}accounts`])) as Iterable<string>)]
    return names.sort().map((name) => {
      const [mode, provider, endpoint] = JSON.parse(name) as [LedgerAccount['mode'], string, string]
      return { mode, provider, endpoint }
    })
  }

  async read(span: LedgerSpan): Promise<LedgerRow[]> {
    const accounts = span.of ? [span.of] : await this.accounts()
    const rows = (await Promise.all(accounts.map((account) => this.#readOf(account, span)))).flat()
    return span.most === undefined ? rows : rows.sort((one, other) => one.bucket - other.bucket).slice(0, span.most)
  }

  async #readOf(account: LedgerAccount, { since, until, grain, details = false }: LedgerSpan): Promise<LedgerRow[]> {
    const wanted = grain === undefined ? grains : [grain]
    const hashes = wanted.map((one) => hashOf(account, one, details))
    const found = (await this.#link.run(rowsScript, `${this.#base}accounts`, [this.#base, ...hashes])) as string[][]
    return found.flatMap((fields, i) => {
      const rows: LedgerRow[] = []
      for (let at = 0; at < fields.length; at += 2) {
        const bucket = Number(fields[at])
        if (bucket < since || bucket >= until) continue
        const { mode, provider, endpoint } = account
        const place = { bucket, grain: wanted[i] as Grain, isDetail: details, mode, provider, endpoint }
        rows.push({ ...place, ...rowOf(fields[at + 1] as string) })
      }
      return rows
    })
  }

  replace(olds: readonly LedgerRow[], news: readonly LedgerRow[]): Promise<boolean> {
    return this.#inTurn(async () => {
      const gone = new Map(olds.map((row) => [placeOfRow(row), textOf(row)]))
      const sums = summedUp(news)
      for (;;) {
        if (!(await this.#areThere(olds))) return false
        const added = await this.#added(sums, gone)
        const set = new Set(added.map(([hash, field]) => `${hash} ${field}`))
        const dropped = olds.flatMap((row): Change[] => {
          const [hash, field] = fieldOf(row)
          return set.has(`${hash} ${field}`) ? [] : [[hash, field, textOf(row), null]]
        })
        if (await this.#change([...dropped, ...added], sums)) return true
      }
    })
  }

  async #areThere(rows: readonly LedgerRow[]): Promise<boolean> {
    const there = await Promise.all(
      rows.map(async (row) => {
        const [hash, field] = fieldOf(row)
        return (await this.#link.send(`${this.#base}${hash}`, ['HGET', `${this.#base}${hash}`, field])) === textOf(row)
      }),
    )
    return there.every(Boolean)
  }

  async drop(span: LedgerSpan): Promise<boolean> {
    const accounts = span.of ? [span.of] : await this.accounts()
    let left = droppedAtOnce
    for (const account of accounts) {
      const rows = await this.#readOf(account, span)
      const some = rows.slice(0, left)
      await Promise.all(
        some.map((row) => {
          const [hash, field] = fieldOf(row)
          return this.#link.send(`${this.#base}${hash}`, ['HDEL', `${this.#base}${hash}`, field])
        }),
      )
      left -= some.length
      if (some.length < rows.length) return true
    }
    return false
  }

  addFacts(facts: BillingFacts): Promise<void> {
    return this.#inTurn(async () => {
      const latest = this.#latest
      let known = latest && performance.now() - latest.at < factsHoldMs ? latest.facts : await this.facts()
      while (!isKnown(known, facts)) {
        const args = [this.#base, JSON.stringify(facts), String(known.length)]
        const isAdded = (await this.#link.run(factsScript, `${this.#base}facts`, args)) === 1
        known = isAdded ? [...known, facts] : await this.facts()
        if (isAdded && this.#latest) this.#latest = { ...this.#latest, facts: known }
      }
    })
  }

  async facts(): Promise<BillingFacts[]> {
    const texts = (await this.#link.send(`${this.#base}facts`, ['LRANGE', `${this.#base}facts`, '0', '-1'])) as string[]
    const facts = texts.map((text) => jsonOr(text) as BillingFacts).sort((one, other) => one.since - other.since)
    this.#latest = { facts, at: performance.now() }
    return facts
  }

  #inTurn<T>(work: () => Promise<T>): Promise<T> {
    const done = this.#adding.then(work)
    this.#adding = done.catch(() => {})
    return done
  }
}

function nameOf({ mode, provider, endpoint }: LedgerAccount): string {
  return JSON.stringify([mode, provider, endpoint])
}

function hashOf(account: LedgerAccount, grain: Grain, isDetail: boolean): string {
  return `${isDetail ? 'details' : 'rows'}:${grain}:${nameOf(account)}`
}

function fieldOf(row: LedgerRow): [hash: string, field: string] {
  return [hashOf(row, row.grain, row.isDetail ?? false), String(row.bucket)]
}

/** The length of its bucket, milliseconds, and its tally. */
function textOf({ lengthMs, tally }: Pick<LedgerRow, 'lengthMs' | 'tally'>): string {
  return `${lengthMs} ${JSON.stringify(tally)}`
}

/** A tally that is no JSON is what stands there: whoever reads it sees that it is none. */
function rowOf(text: string): Pick<LedgerRow, 'lengthMs' | 'tally'> {
  const space = text.indexOf(' ')
  return { lengthMs: Number(text.slice(0, space)), tally: jsonOr(text.slice(space + 1)) as TallyData }
}

function jsonOr(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return text
  }
}

/** Rows of one place as one. */
function summedUp(rows: readonly LedgerRow[]): LedgerRow[] {
  const sums = new Map<string, LedgerRow>()
  for (const row of rows) {
    const place = placeOfRow(row)
    const known = sums.get(place)
    sums.set(place, known ? { ...row, tally: sumTallies(known.tally, row.tally) } : row)
  }
  return [...sums.values()]
}
