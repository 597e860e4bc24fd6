import { sumTallies } from '../../core/ledger/sum-tallies.js'
import type { SqliteDriver } from './driver.js'

type Value = string | number
type Rows = readonly (readonly Value[])[]

/** What is to outlive a store file: rows of its tables, column by column. Tables that cannot be read are empty. */
export interface Rescued {
  readonly records: Rows
  readonly facts: Rows
  readonly ledger: Rows
}

const columns = {
  records: ['name', 'value', 'keep_until'],
  facts: ['since', 'facts'],
  ledger: ['detail', 'grain', 'bucket', 'mode', 'provider', 'endpoint', 'length', 'tally'],
} as const
const tables = { records: 'shared_record', facts: 'facts', ledger: 'ledger' } as const

/** Reads what is to outlive a file through a connection to it that is open still. */
export function rescue(from: SqliteDriver): Rescued {
  const rowsOf = (part: keyof typeof tables): Rows => {
    try {
      const all = from.prepare(`SELECT ${columns[part].join(', ')} FROM ${tables[part]}`).all()
      return all.map((row) => columns[part].map((name) => row[name] as Value))
    } catch {
      return []
    }
  }
  return { records: rowsOf('records'), facts: rowsOf('facts'), ledger: rowsOf('ledger') }
}

/** Takes what was rescued of a store over into another, in a transaction of it, once for all who rescued it. Returns whether this was the time. */
export function adopt(into: SqliteDriver, id: string, read: () => Rescued): boolean {
  if (into.prepare('SELECT 1 FROM store WHERE id = ?').get(id)) return false // a copy of it, which has its counts
  if (into.prepare('INSERT OR IGNORE INTO adopted (id) VALUES (?)').run(id) === 0) return false
  const { records, facts, ledger } = read()
  const addRecord = into.prepare('INSERT OR REPLACE INTO shared_record (name, value, keep_until) VALUES (?, ?, ?)')
  for (const row of records) addRecord.run(...row)
  const addFacts = into.prepare('INSERT INTO facts (since, facts) SELECT ?1, ?2 WHERE NOT EXISTS (SELECT 1 FROM facts WHERE facts = ?2)')
  for (const row of facts) addFacts.run(...row)
  addLedger(into, ledger)
  return true
}

function addLedger(into: SqliteDriver, rows: Rows): void {
  const place = columns.ledger.slice(0, 6)
  const same = place.map((name) => `${name} = ?`).join(' AND ')
  const marks = columns.ledger.map(() => '?').join(', ')
  const add = into.prepare(`INSERT OR IGNORE INTO ledger (${columns.ledger.join(', ')}) VALUES (${marks})`)
  const read = into.prepare(`SELECT tally FROM ledger WHERE ${same}`)
  const write = into.prepare(`UPDATE ledger SET tally = ? WHERE ${same}`)
  for (const row of rows) {
    if (add.run(...row) > 0) continue
    const values = row.slice(0, place.length)
    try {
      const known = JSON.parse(String(read.get(...values)?.tally))
      write.run(JSON.stringify(sumTallies(known, JSON.parse(String(row.at(-1))))), ...values)
    } catch {
      // one of them is no JSON: what stands there stays
    }
  }
}
