import { spawn, spawnSync } from 'node:child_process'
import { once } from 'node:events'
import { chmodSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { basename } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { type BillingFacts, type Entry, type LedgerRow, memoryStore, openStash, type Store, StoreError } from 'stashen'
import { fileJournal } from 'stashen/journal'
import { sqliteStore } from 'stashen/sqlite'
import { Tally } from '../src/core/ledger/tally.js'
import { openDriver } from '../src/stores/sqlite/open-driver.js'
import { temporaryFolder } from './support/files.js'

const entry = (key: string, more: Partial<Entry> = {}): Entry => ({
  ...{ key, provider: 'ebbline', endpoint: 'tides', head: '{"status":200}', body: new Uint8Array([1, 2, 3]) },
  ...{
    storedAt: 1_000,
    bornAt: 900,
    freshUntil: 2_000,
    refreshableUntil: 2_000,
    usableUntil: 3_000,
    keepUntil: 3_000,
    mustRevalidate: false,
  },
  ...more,
})

const row = (counts: Partial<Tally>, more: Partial<LedgerRow> = {}): LedgerRow => {
  const tally = Object.assign(new Tally(), counts)
  for (let i = 0; i < tally.asked; i++) tally.latency.add(10)
  return { bucket: 60_000, grain: 'minute', lengthMs: 60_000, mode: 'reuse', provider: 'ebbline', endpoint: 'tides', ...more, tally }
}

const caught = (work: () => Promise<unknown>): Promise<string> => work().then(String, (error: Error) => error.message)

const facts = (since: number, perCall: string, endpoint: string | null = null): BillingFacts => ({
  ...{ provider: 'ebbline', endpoint, since },
  plan: { currency: 'EUR', perCall, notBilled: [] },
})

describe('stores', () => {
  const file = temporaryFolder()
  let files = 0
  const kinds: [name: string, make: () => Store][] = [
    ['memory', () => memoryStore()],
    ['SQLite', () => sqliteStore(file(`contract-${files++}.db`))],
  ]
  for (const [name, make] of kinds) {
    describe(`the ${name} store`, () => {
      let store: Store
      beforeEach(async () => {
        store = make()
        await store.open({ now: 0, warn: () => {} })
      })
      afterEach(() => store.close())

      it('gives back exactly the entry it was given, byte for byte, and nothing for another key', async () => {
        const body = Uint8Array.from({ length: 70_000 }, (_, i) => (i * 31) % 256)
        const kept = entry('GET https://x/ø?a=%00&"quoted" \u{1f30a}', {
          body,
          head: '{"fields":[["x","ø"]]}',
          units: { tokens: 812.5 },
          freshUntil: 2 ** 45,
          usableUntil: 2 ** 46,
        })
        await store.put(kept)
        const found = await store.get(kept.key)
        expect({ ...found, body: undefined, memo: undefined }).to.eql({ ...kept, body: undefined, memo: undefined })
        expect(new Uint8Array(found?.body ?? [])).to.eql(body)
        expect(await store.get('get https://x/')).to.equal(undefined)
        await store.put(entry('empty', { body: new Uint8Array(), head: '' }))
        expect((await store.get('empty'))?.body.byteLength).to.equal(0)
      })

      it('puts an entry in the place of the one under its key, and sweeps only what is not worth keeping', async () => {
        await store.put(entry('a', { keepUntil: 3_000 }))
        await store.put(entry('a', { keepUntil: 5_000, body: new Uint8Array([9]) }))
        await store.put(entry('b', { keepUntil: 4_000 }))
        expect([...((await store.get('a'))?.body ?? [])]).to.eql([9])
        expect(await store.sweep(3_999)).to.equal(0)
        expect(await store.sweep(4_000)).to.equal(1)
        expect(await store.get('b')).to.equal(undefined)
        expect(await store.get('a')).to.not.equal(undefined)
      })

      it('gives an entry other times, but not one that came since, and marks those of one place as out of date', async () => {
        const times = { storedAt: 1_000, bornAt: 950, freshUntil: 7_000, refreshableUntil: 7_500, usableUntil: 8_000, keepUntil: 9_000 }
        for (const key of ['GET https://x/a', 'GET https://x/a caller:1', 'GET https://x/ab', 'GET https://x/a?b'])
          await store.put(entry(key))
        await store.updateTimes('GET https://x/a', { ...times, mustRevalidate: false })
        await store.updateTimes('GET https://x/ab', { ...times, storedAt: 999, mustRevalidate: false })
        await store.updateTimes('absent', { ...times, mustRevalidate: false })
        expect(await store.get('GET https://x/a')).to.deep.include({ ...times, mustRevalidate: false, head: '{"status":200}' })
        expect(await store.get('GET https://x/ab')).to.include({ freshUntil: 2_000 })
        await store.invalidate('GET https://x/a', 1_500)
        for (const [key, freshUntil] of [
          ['', 1_500],
          [' caller:1', 1_500],
          ['b', 2_000],
          ['?b', 2_000],
        ] as const) {
          const mustRevalidate = freshUntil === 1_500
          expect(await store.get(`GET https://x/a${key}`), key).to.include({ freshUntil, mustRevalidate })
        }
        expect(await store.get('GET https://x/a')).to.include({ refreshableUntil: 1_500, usableUntil: 1_500, keepUntil: 9_000 })
      })

      it('drops what was stored longest ago of an endpoint, or of the variants of an answer', async () => {
        for (let i = 0; i < 5; i++) await store.put(entry(`GET http://x/a vary:${i}`, { storedAt: 10 - i }))
        for (let i = 0; i < 5; i++) await store.put(entry(`GET http://x/b${i}`, { storedAt: i }))
        await store.put(entry('GET http://x/other', { endpoint: 'other' }))
        expect(await store.trim({ variantsOf: 'GET http://x/a' }, 2)).to.equal(3)
        const kept = async (keys: string[]) => {
          const found = await Promise.all(keys.map(async (key) => ((await store.get(key)) ? [key] : [])))
          return found.flat()
        }
        const variants = [0, 1, 2, 3, 4].map((i) => `GET http://x/a vary:${i}`)
        expect(await kept(variants)).to.eql(variants.slice(0, 2))
        const { provider, endpoint } = entry('')
        expect(await store.trim({ provider, endpoint }, 3)).to.equal(4)
        expect(await kept([...variants, 'GET http://x/b4', 'GET http://x/b3', 'GET http://x/other'])).to.eql([
          ...variants.slice(0, 2),
          'GET http://x/b4',
          'GET http://x/other',
        ])
        expect((await store.size()).entries).to.equal(4)
        expect(await store.remove('GET http://x/other')).to.equal(undefined)
        expect((await store.size()).entries).to.equal(3)
      })

      it('changes shared records one after another, and forgets them when they run out', async () => {
        const seen: (string | undefined)[] = []
        const change = (value: string, keepUntil: number, now = 0) =>
          store.update('lease a', now, (kept) => {
            seen.push(kept)
            return kept === undefined ? { value, keepUntil } : undefined
          })
        await change('one', 10)
        await change('two', 10, 9)
        await change('three', 30, 10)
        expect(seen).to.eql([undefined, 'one', undefined])
        await store.update('lease b', 0, () => ({ value: 'b', keepUntil: 50 }))
        await store.update('other', 0, () => ({ value: 'c', keepUntil: 50 }))
        expect([...(await store.records('lease ', 20))].sort()).to.eql([
          ['lease a', 'three'],
          ['lease b', 'b'],
        ])
        await store.sweep(30)
        expect([...(await store.records('', 0)).keys()].sort()).to.eql(['lease b', 'other'])
      })

      it('adds tallies to the rows of the same place and reads them by time', async () => {
        await store.addToLedger([row({ hit: 2, changed: 1 }), row({ hit: 1 }, { endpoint: 'station' })])
        await store.addToLedger([row({ hit: 3, stale: 4 }), row({ hit: 7 }, { mode: 'measure' }), row({ hit: 9 }, { bucket: 120_000 })])
        const read = await store.readLedger(60_000, 120_000)
        const counts = read.map(({ mode, endpoint, tally }) => [mode, endpoint, tally.hit, tally.stale, tally.changed, tally.latency.count])
        expect(counts).to.have.deep.members([
          ['reuse', 'tides', 5, 4, 1, 9],
          ['reuse', 'station', 1, 0, 0, 1],
          ['measure', 'tides', 7, 0, 0, 7],
        ])
        expect(await store.readLedger(0, 60_000)).to.eql([])
      })

      it('puts the oldest slice of fine buckets together in one step, and leaves everything where that fails', async () => {
        const [minute, hour] = [60_000, 3_600_000]
        const at = (bucket: number, hit: number) => row({ hit }, { bucket })
        await store.addToLedger([at(0, 1), at(minute, 2), at(hour, 4), at(hour + minute, 8), at(5 * hour, 16)])
        const slice = (bucket: number) => ({ start: Math.floor(bucket / hour) * hour, end: Math.floor(bucket / hour) * hour + hour })
        const together = (rows: LedgerRow[]): LedgerRow[] => {
          const tally = new Tally()
          for (const one of rows) tally.merge(one.tally)
          return [{ ...(rows[0] as LedgerRow), grain: 'hour', lengthMs: hour, bucket: slice(rows[0]?.bucket ?? 0).start, tally }]
        }
        const all = async () => (await store.readLedger(0, 9 * hour)).map(({ bucket, grain, tally }) => [bucket, grain, tally.hit])
        const fails = () => {
          throw new Error('no')
        }
        expect(await caught(async () => store.coarsenLedger(2 * hour, 'hour', slice, fails))).to.equal('no')
        expect(await all()).to.have.length(5)
        expect(await store.coarsenLedger(2 * hour, 'hour', slice, together)).to.equal(true)
        expect(await store.coarsenLedger(2 * hour, 'hour', slice, together)).to.equal(true)
        expect(await store.coarsenLedger(2 * hour, 'hour', slice, together)).to.equal(false)
        await store.addToLedger([at(minute, 32)])
        expect(await store.coarsenLedger(2 * hour, 'hour', slice, together), 'what comes late joins them').to.equal(true)
        expect(await all()).to.have.deep.members([
          [0, 'hour', 35],
          [hour, 'hour', 12],
          [5 * hour, 'minute', 16],
        ])
        await store.addToLedger([0, minute].map((bucket) => ({ ...at(bucket, 64), isDetail: true })))
        await store.dropDetails('minute', minute)
        const details = await store.readDetails('minute', 0, hour)
        expect(details.map(({ bucket, isDetail, tally }) => [bucket, isDetail, tally.hit])).to.eql([[minute, true, 64]])
        expect(await all(), 'which are no calls of their own').to.have.length(3)
      })

      it('remembers facts when they differ from the newest of the same provider and endpoint', async () => {
        for (const one of [
          facts(1, '0.1'),
          facts(2, '0.1'),
          facts(3, '0.2', 'tides'),
          facts(4, '0.3'),
          facts(5, '0.1'),
          facts(6, '0.2', 'tides'),
        ]) {
          await store.addFacts(one)
        }
        expect((await store.readFacts()).map(({ since }) => since)).to.eql([1, 3, 4, 5])
      })
    })
  }

  it('keeps the memory store within its bytes and entries; what was used least recently goes first', async () => {
    const few = memoryStore({ maxEntries: 3 })
    for (const key of ['a', 'b', 'c']) await few.put(entry(key))
    await few.get('a')
    await few.put(entry('d'))
    expect(await Promise.all(['a', 'b', 'c', 'd'].map(async (key) => (await few.get(key))?.key))).to.eql(['a', undefined, 'c', 'd'])
    const small = memoryStore({ maxBytes: 10_000 })
    for (let i = 0; i < 50; i++) await small.put(entry(String(i), { body: new Uint8Array(1_000) }))
    const left = (await Promise.all(Array.from({ length: 50 }, (_, i) => small.get(String(i))))).filter(Boolean)
    expect(left.map((one) => one?.key)).to.eql(['46', '47', '48', '49'])
    await small.put(entry('huge', { body: new Uint8Array(20_000) }))
    expect(await small.get('huge')).to.equal(undefined)
    expect(await small.get('49'), 'an entry too large does not drive out others').to.not.equal(undefined)
  })

  describe('an SQLite file', () => {
    /** Files that are no usable store, and words of the error. */
    const bad: [name: string, make: (path: string) => void, ...words: string[]][] = [
      ['is text', (path) => writeFileSync(path, 'not a store, '.repeat(50)), 'is not a Stashen store'],
      ['belongs to another program', (path) => withDriver(path, 'CREATE TABLE theirs (a)'), 'is not a Stashen store'],
      ['is a folder', (path) => mkdirSync(path), 'cannot be opened'],
      [
        'was made by a newer version',
        (path) => withDriver(path, `PRAGMA application_id = ${0x53747368}; PRAGMA user_version = 999`),
        'newer version',
      ],
    ]
    for (const [name, make, ...words] of bad) {
      it(`is refused and left as it is when it ${name}`, async () => {
        const path = file(`bad-${files++}`)
        make(path)
        const before = name === 'is a folder' ? undefined : readFileSync(path)
        const error = await openStash({ store: sqliteStore(path) }).catch((thrown: unknown) => thrown)
        expect(error).to.be.instanceOf(StoreError)
        for (const word of [path, ...words]) expect((error as Error).message).to.include(word)
        if (before) expect(readFileSync(path).equals(before)).to.equal(true)
      })
    }

    /** Damages of a store file of ours, by where it is overwritten. */
    const damages: [what: string, from: number, until: number][] = [
      ['in its tables, which shows only in use', 2 * 4096, 1_000_000],
      ['in its schema, which shows at opening', 100, 4096],
    ]
    for (const [what, from, until] of damages) {
      it(`that is corrupt ${what}, is set aside loudly, and a new one begun`, async () => {
        const path = file(`damaged-${files++}.db`)
        const plan = { currency: 'EUR', perCall: '0.01' }
        const open = (said: string[]) =>
          openStash({ store: sqliteStore(path), providers: { skerrylight: { plan } }, warn: (message) => void said.push(message) })
        const rule = { freshFor: '1 day' } as const
        const first = await open([])
        const find = first.operation('skerrylight.find', async (name: string) => name.repeat(500), rule)
        for (let i = 0; i < 200; i++) await find(`Marram ${i}`)
        await first.close()
        const bytes = readFileSync(path)
        bytes.fill(0x5a, from, Math.min(until, bytes.byteLength))
        writeFileSync(path, bytes)
        const said: string[] = []
        const second = await open(said)
        const again = second.operation('skerrylight.find', async (name: string) => name, rule)
        for (let i = 0; i < 20; i++) expect(await again(`Marram ${i}`)).to.equal(`Marram ${i}`)
        expect((await again.withOutcome('Marram 3')).outcome.how).to.equal('hit')
        expect((await second.report()).totals.with).to.deep.include({
          asked: 21,
          upstream: 20,
          money: [{ currency: 'EUR', amount: '0.2' }],
        })
        await second.close()
        expect(said.join()).to.include('is corrupt').and.include('renamed')
        const aside = readdirSync(file('.')).filter((name) => name.startsWith(basename(path)) && /\.corrupt-[\dTZ-]+$/.test(name))
        expect(aside).to.have.length(1)
        expect(readFileSync(file(aside[0] ?? '')).equals(bytes), 'and left as it was').to.equal(true)
      })
    }

    it('is refused in a folder that does not exist, while locked, and when it may only be read', async () => {
      const messageOf = (path: string) =>
        openStash({ store: sqliteStore(path) }).then(
          () => 'opened',
          (error: Error) => error.message,
        )
      expect(await messageOf(file('no/such/folder.db'))).to.include('cannot be opened')
      const path = file('locked.db')
      await (await openStash({ store: sqliteStore(path) })).close()
      const other = openDriver(path)
      other.exec('BEGIN EXCLUSIVE')
      expect(await messageOf(path)).to.include('is locked by another process')
      other.exec('COMMIT')
      other.close()
      chmodSync(path, 0o444)
      chmodSync(file('.'), 0o755)
      const { stdout } = spawnSync(process.execPath, [unprivileged, path], { encoding: 'utf8' })
      expect(stdout).to.include('cannot be written')
    })

    it('is shared by two processes: counts add up exactly, and an entry of one is a hit of the other', async () => {
      const path = file('shared.db')
      const counters = [1, 2].map(() => spawn(process.execPath, [counting, path, '1.5']))
      const counted = (await Promise.all(counters.map(linesOf))).map((lines) => lines.at(-1)?.[0] ?? 0)
      const stash = await openStash({ store: sqliteStore(path) })
      const { totals } = await stash.report()
      expect(totals.with?.asked).to.equal(counted.reduce((sum, count) => sum + count))
      const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
      expect((await find.withOutcome('Marram 3')).outcome.how).to.equal('hit')
      await stash.close()
    })

    it('has lost at most one second of counts after a kill -9, and the journal of calls', async () => {
      const path = file('killed.db')
      const counter = spawn(process.execPath, [counting, path])
      const written = linesOf(counter)
      await once(counter.stdout, 'data')
      await new Promise((resolve) => setTimeout(resolve, 2_500))
      counter.kill('SIGKILL')
      const lines = await written
      const [total = 0, killedAt = 0] = lines.at(-1) ?? []
      const [secondOld = 0] = lines.findLast(([, at = 0]) => at <= killedAt - 1_000) ?? []
      const store = sqliteStore(path)
      await store.open({ now: Date.now(), warn: () => {} })
      const asked = (await store.readLedger(0, Number.MAX_SAFE_INTEGER)).reduce((sum, { tally }) => sum + tally.asked, 0)
      await store.close()
      expect(secondOld).to.be.above(0)
      expect(asked).to.be.at.least(secondOld)
      // one call may have been counted and written before its line was
      expect(asked).to.be.at.most(total + 1)
      let journaled = 0
      for await (const line of fileJournal(`${path}.jsonl`).read()) if ((JSON.parse(line) as { is: string }).is === 'call') journaled++
      expect(journaled).to.be.within(secondOld, total + 1)
    })
  })
})

const unprivileged = fileURLToPath(new URL('./support/unprivileged.process.js', import.meta.url))
const counting = fileURLToPath(new URL('./support/counting.process.js', import.meta.url))

/** The numbers on the whole lines that a process wrote before it ended. */
async function linesOf(child: ReturnType<typeof spawn>): Promise<number[][]> {
  let written = ''
  child.stdout?.on('data', (data: Buffer) => {
    written += data
  })
  await once(child, 'close')
  return written
    .split('\n')
    .slice(0, -1)
    .map((line) => line.split(' ').map(Number))
}

function withDriver(path: string, sql: string): void {
  const driver = openDriver(path)
  driver.exec(sql)
  driver.close()
}
