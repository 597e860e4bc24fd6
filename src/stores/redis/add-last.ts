import { spawnSync } from 'node:child_process'
import type { LedgerRow } from '../../core/ledger/ledger-row.js'
import type { LedgerBatch } from '../../core/ports/ledger-store.js'
import type { Address } from './address.js'

/** How long a process that exits waits for its last counts on a slow machine, milliseconds: where the server cannot be reached it is two seconds. */
const timeLimitMs = 15_000

const script = `
import { text } from 'node:stream/consumers'
const { module, url, options, rows, batch } = JSON.parse(await text(process.stdin))
const { redisStore } = await import(module)
const store = redisStore({ url, ...options })
await store.open({ now: Date.now(), warn() {} })
await store.ledger.add(rows, batch)
await store.close()
`

/** Adds rows by a process of its own, for one that exits can wait for no server. The address goes by its input, which nobody else sees. */
export function addLast(
  { host, port, username, password, database, tls }: Address,
  prefix: string,
  rows: readonly LedgerRow[],
  batch: LedgerBatch,
): void {
  const url = `${tls ? 'rediss' : 'redis'}://${host.includes(':') ? `[${host}]` : host}:${port}`
  const options = { database, prefix, ...(username !== undefined && { username }), ...(password !== undefined && { password }) }
  const module = new URL('./index.js', import.meta.url).href
  const { NODE_OPTIONS: _, ...env } = process.env
  spawnSync(process.execPath, ['--input-type=module', '--eval', script], {
    input: JSON.stringify({ module, url, options, rows, batch }),
    env,
    timeout: timeLimitMs,
    stdio: ['pipe', 'ignore', 'ignore'],
  })
}
