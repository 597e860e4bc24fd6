import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { openStash } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import { openDriver } from '../src/stores/sqlite/open-driver.js'
import { type Comparison, compare, type Ratio } from './compare.js'

const names = Array.from({ length: 64 }, (_, i) => `Marram ${i}`)
let turn = 0
const nextName = () => names[turn++ & 63] as string

const idOf = async (name: string) => `v-201 of ${name}`
const kilobyte = {
  id: 'v-201',
  log: Array.from({ length: 16 }, (_, i) => ({ at: `2026-06-30T06:${10 + i}:00+02:00`, lat: 58.31 + i / 1000 })),
}
const vesselOf = async (name: string) => ({ ...kilobyte, name })

/** Every row that compares the time of a hit with that of what a developer would write by hand. */
export async function hitRatios(): Promise<Ratio[]> {
  return [await operationText(), await operationObject(), await response(), await sqlite()]
}

/** An async function over a `Map` with an expiry check and a template-string key; objects are kept as JSON text, so receivers cannot change them. */
function byHand<T>(
  call: (name: string) => Promise<T>,
  keep: (value: T) => string,
  give: (kept: string) => T,
): (name: string) => Promise<T> {
  const kept = new Map<string, { value: string; until: number }>()
  return async (name) => {
    const key = `vessel:${name}`
    const known = kept.get(key)
    if (known !== undefined && Date.now() < known.until) return give(known.value)
    const value = await call(name)
    kept.set(key, { value: keep(value), until: Date.now() + 86_400_000 })
    return value
  }
}

async function operationText(): Promise<Ratio> {
  const stash = await openStash()
  const ours = stash.operation('skerrylight.id', idOf, { freshFor: '1 day' })
  const hand = byHand(
    idOf,
    (value) => value,
    (kept) => kept,
  )
  return timed(stash, { name: 'operation in memory, a string', ours: () => ours(nextName()), baseline: () => hand(nextName()), limit: 2 })
}

async function operationObject(): Promise<Ratio> {
  const stash = await openStash()
  const ours = stash.operation('skerrylight.vessel', vesselOf, { freshFor: '1 day' })
  const hand = byHand(vesselOf, JSON.stringify, JSON.parse)
  return timed(stash, {
    name: 'operation in memory, a 1 KB object',
    ours: () => ours(nextName()),
    baseline: () => hand(nextName()),
    limit: 2,
  })
}

async function response(): Promise<Ratio> {
  const bytes = new TextEncoder().encode(JSON.stringify(kilobyte))
  const headers = { 'content-type': 'application/json', date: 'Tue, 30 Jun 2026 04:00:00 GMT', etag: '"a1"' }
  const stash = await openStash({
    fetch: async () => new Response(bytes, { headers }),
    providers: {
      skerrylight: {
        baseUrl: 'https://positions.skerrylight.example/v1',
        endpoints: { vessel: { request: 'GET /vessels/{id}', freshFor: '1 day' } },
      },
    },
  })
  const url = 'https://positions.skerrylight.example/v1/vessels/v-201'
  return timed(stash, {
    name: 'fetch in memory, reading its JSON',
    ours: async () => (await stash.fetch(url)).json(),
    baseline: async () => new Response(bytes).json(),
    limit: 1.5,
  })
}

async function sqlite(): Promise<Ratio> {
  const folder = mkdtempSync(join(tmpdir(), 'stashen-bench-'))
  const file = join(folder, 'bench.db')
  const stash = await openStash({ store: sqliteStore(file) })
  const ours = stash.operation('skerrylight.id', idOf, { freshFor: '1 day' })
  for (const name of names) await ours(name)
  const driver = openDriver(file)
  const select = driver.prepare('SELECT provider, endpoint, head, body, stored_at, fresh_until, usable_until FROM entry WHERE key = ?')
  const ratio = await timed(stash, {
    name: 'operation in SQLite, a string',
    ours: () => ours(nextName()),
    baseline: () => select.get(`skerrylight.id["${nextName()}"]`),
    limit: 1.5,
  })
  driver.close()
  rmSync(folder, { recursive: true })
  return ratio
}

/** Fills both, so that only hits are timed, and closes the stash afterwards. */
async function timed(stash: AsyncDisposable, comparison: Comparison): Promise<Ratio> {
  for (const _ of names) {
    await comparison.ours()
    await comparison.baseline()
  }
  try {
    return await compare(comparison)
  } finally {
    await stash[Symbol.asyncDispose]()
  }
}
