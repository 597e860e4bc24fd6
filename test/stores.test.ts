import { spawn, spawnSync } from 'node:child_process'
import { once } from 'node:events'
import { chmodSync, mkdirSync, readdirSync, readFileSync, renameSync, rmSync, statSync, truncateSync, writeFileSync } from 'node:fs'
import { basename } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { parse } from 'csv-parse/sync'
import { memoryStore, openStash, type Stash, type StashConfig, type Store, StoreError } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { fileJournal } from 'stashen/journal'
import { layeredStore } from 'stashen/layered'
import { prometheusText } from 'stashen/observers'
import { renderCsv, renderMarkdown, renderText } from 'stashen/render'
import { sqliteStore } from 'stashen/sqlite'
import { storeContract } from 'stashen/testing'
import { openDriver } from '../src/stores/sqlite/open-driver.js'
import { sampleEntry } from '../src/testing/entry-contract.js'
import { documentedModule } from './support/documented.js'
import { temporaryFolder } from './support/files.js'
import { withQuickTimers } from './support/quick-timers.js'
import { isLong, scaled } from './support/scale.js'
import { askedIn, asynchronousStore } from './support/wrapped-store.js'

const { plainStore } = (await import(documentedModule('docs/stores.md', 'function plainStore'))) as { plainStore: () => Store }

describe('stores', () => {
  const file = temporaryFolder()
  let files = 0
  const kinds: [name: string, make: () => Store][] = [
    ['memory', () => memoryStore()],
    ['asynchronous memory', () => asynchronousStore()],
    ['documented', () => plainStore()],
    ['SQLite', () => sqliteStore(file(`contract-${files++}.db`))],
    ['SQLite in memory', () => sqliteStore(':memory:')],
  ]
  for (const [name, make] of kinds) {
    describe(`the ${name} store`, () => {
      for (const { name: rule, run } of storeContract(make)) it(rule, () => withQuickTimers(run))
    })
  }

  const bounded: [name: string, make: (maxBytes: number) => Store][] = [
    ['memory', (maxBytes) => memoryStore({ maxBytes })],
    ['SQLite', (maxBytes) => sqliteStore(file(`bounded-${files++}.db`), { maxBytes })],
  ]
  for (const [name, make] of bounded) {
    it(`keeps the ${name} store within its bytes: what expired goes first, then what was used least recently`, async () => {
      await using store = opened(make(40_000))
      const { entries } = store
      const kilobyte = { body: new Uint8Array(1_000), keepUntil: 1e6 }
      const keys = Array.from({ length: 60 }, (_, i) => `GET https://x/${i}`)
      let evicted = 0
      for (const [i, key] of keys.entries()) {
        await entries.get(keys[3] as string)
        const done = await entries.put(
          sampleEntry(key, { ...kilobyte, ...(i === 7 && { freshUntil: 1_500, keepUntil: 1_500 }) }),
          i < 8 ? 1_400 : 1_600,
        )
        for (const one of done?.evicted ?? []) evicted += one.entries
        expect((await entries.size()).bytes).to.be.at.most(40_000)
      }
      const left = (await entries.list({ all: true })).entries.map(({ key }) => keys.indexOf(key)).sort((one, other) => one - other)
      expect(left.slice(0, 2), 'what is used stays, and else the newest').to.eql([3, 60 - left.length + 1])
      expect(evicted, 'what had expired is none').to.equal(60 - left.length - 1)
      const huge = sampleEntry(keys[59] as string, { body: new Uint8Array(60_000) })
      expect(await entries.put(huge, 1_600)).to.eql({ notKept: 'too-large' })
      expect(await entries.get(huge.key), 'what it took the place of is out of date').to.equal(undefined)
      expect((await entries.size()).entries, 'and drives out no others').to.equal(left.length - 1)
      for (const [now, wasEvicted] of [[1_999, true], [1_999, undefined]] as const) // biome-ignore format: a row a line
        expect((await entries.put(sampleEntry(keys[10] as string, kilobyte), now))?.wasEvicted || undefined).to.equal(wasEvicted)
      expect((await entries.put(sampleEntry(keys[11] as string, kilobyte), 2_000))?.wasEvicted, 'it would be fresh no more').to.not.equal(
        true,
      )
    })

    it(`tells of a ${name} store that is too small: what was evicted while fresh, fetched again and paid twice`, async () => {
      const clock = new FastClock(Date.UTC(2026, 8, 14, 12))
      const store = make(30_000)
      const told: string[] = []
      const plan = { currency: 'EUR', perCall: '0.05', units: { tokens: { price: '0.001' } }, notBilled: ['clientError'] } as const
      const config: StashConfig = {
        ...{ store, clock, warn: () => {} },
        fetch: async (input) => {
          const isLost = String(input).includes('/lost/')
          return new Response(JSON.stringify({ text: 'x'.repeat(1_000), tokens: 10 }), { status: isLost ? 404 : 200 })
        },
        providers: {
          ebbline: {
            ...{ baseUrl: 'https://tides.ebbline.example', plan },
            endpoints: {
              tides: { request: 'GET /tides/{n}', freshFor: '1 hour', units: { tokens: { at: '/tokens' } } },
              lost: { request: 'GET /lost/{n}', freshFor: '1 hour', freshForStatus: { 404: '1 hour' } },
            },
          },
        },
      }
      const ask = async (stash: Stash, path: string) => (await stash.fetch(`https://tides.ebbline.example/${path}`)).text()
      const stash = await openStash(config)
      stash.on('evicted', ({ endpoint, entries }) => void told.push(...Array(entries).fill(endpoint)))
      for (let round = 0; round < 2; round++) {
        for (let n = 0; n < 30; n++) {
          await ask(stash, `tides/${n}`)
          await ask(stash, 'tides/hot')
        }
      }
      for (let n = 0; n < 60; n++) await ask(stash, `lost/${n % 30}`)
      const { entries: left } = (await stash.status()).store
      const report = await stash.report()
      const { with: reused } = report.totals
      expect(reused).to.include({ upstream: 121, fromStore: 59, refetched: 31 - 1, evicted: 121 - (left ?? 0) })
      expect(reused?.paidTwice).to.eql([{ currency: 'EUR', amount: '1.8' }])
      expect(reused?.money).to.eql([{ currency: 'EUR', amount: '3.66' }])
      expect(report.providers[0]?.endpoints.map(({ with: its }) => its?.refetched)).to.eql([0, 30])
      expect(told).to.have.length(reused?.evicted ?? 0)
      const note = `the store is too small: ${reused?.evicted} answers were dropped before they expired, 30 fetched again: EUR 1.80 was paid twice`
      for (const text of [renderText(report), renderMarkdown(report)]) expect(text.replace(/\s+/g, ' ')).to.include(note)
      const csv = parse(renderCsv(report), { columns: true }) as Record<string, string>[]
      const sum = (name: string) => csv.reduce((total, row) => total + Number(row[name] || 0), 0)
      expect([sum('evicted'), sum('refetched'), sum('paid_twice')]).to.eql([reused?.evicted, 30, 1.8])
      expect(await prometheusText(report)).to.match(/stashen_refetched_total\{[^}]*"tides"[^}]*\} 30/)
      await stash.close()
    })
  }

  it('that cannot say where an answer was found, or count it, keeps nobody from it', async () => {
    const { entries, ...rest } = layeredStore({ far: memoryStore() })
    const fails = () => {
      throw new Error('boom')
    }
    const spoilt = Object.assign(Object.create(entries), { foundIn: fails, given: fails }) as Store['entries']
    const through = ['get', 'put', 'updateTimes', 'invalidate', 'remove', 'trim', 'list', 'sweep', 'size'] as const
    for (const name of through) spoilt[name] = (entries[name] as (...args: unknown[]) => never).bind(entries)
    await using stash = await openStash({
      ...{ store: { ...rest, entries: spoilt }, fetch: async () => new Response('high') },
      providers: {
        ebbline: { baseUrl: 'https://tides.ebbline.example/v2', endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } },
      },
    })
    const level = stash.operation('ebbline.level', async () => 2.4, { freshFor: '1 hour' })
    for (const how of ['forwarded', 'hit', 'hit']) {
      const answer = await stash.fetch('https://tides.ebbline.example/v2/tides/1')
      expect([await answer.text(), stash.outcomeOf(answer)?.how]).to.eql(['high', how])
      expect(await level()).to.equal(2.4)
    }
  })

  it('of two layers says of each answer which one gave it, counts them, and says so where copies are kept for too short a time', async () => {
    const ticks = performance.now.bind(performance)
    let aheadMs = 0
    performance.now = () => ticks() + aheadMs
    const store = layeredStore({ far: memoryStore(), nearFor: '300 ms' })
    const outcomes: (string | undefined)[] = []
    const heard: (string | undefined)[] = []
    const url = 'https://tides.ebbline.example/v2/tides/1'
    await using stash = await openStash({
      ...{ store, warn: (message: string) => expect.fail(message), fetch: async () => new Response('high') },
      providers: {
        ebbline: { baseUrl: 'https://tides.ebbline.example/v2', endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } },
      },
    })
    const ask = async () => outcomes.push(stash.outcomeOf(await stash.fetch(url))?.layer)
    const level = stash.operation('ebbline.level', async (place: string) => `${place} 2.4 m`, { freshFor: '1 hour' })
    for (let i = 0; i < 3; i++) await level('Kelpmouth')
    const layersOf = async () => {
      const layers: unknown[] = []
      for await (const { layer } of stash.entries()) layers.push(layer)
      return layers
    }
    await ask()
    expect(await layersOf()).to.eql(['near', 'near'])
    for (let i = 0; i < 12; i++) {
      aheadMs += 310
      await ask()
    }
    await ask() // at once after the one before
    stash.on('call', ({ layer }) => heard.push(layer))
    await ask()
    expect(outcomes).to.eql([undefined, ...Array.from({ length: 12 }, () => 'far'), 'near', 'near'])
    expect(heard).to.eql(['near'])
    aheadMs += 310
    expect(await layersOf()).to.eql(['far', 'far'])
    const report = await stash.report()
    expect(report.totals.with).to.include({ fromStore: 16, near: 4, far: 12, reread: 12 })
    expect(report.providers[0]?.endpoints.find(({ endpoint }) => endpoint === 'level')?.with).to.include({ near: 2, far: 0, reread: 0 })
    const text = renderText(report)
    expect(text).to.include('answers from store: 4 near, 12 far, 12 of these again and unchanged')
    expect(text.replaceAll('\n', ' ')).to.include('for too short a time: 12 of 16 answers from store were read again')
    expect(parse(renderCsv(report), { columns: true })[1]).to.include({ endpoint: 'tides', near: '2', far: '12', reread: '12' })
    await stash.invalidate({ provider: 'ebbline' })
    await ask() // to be asked for again: from afar, and forwarded
    expect((await stash.report()).totals.with, 'what changed is not read again unchanged').to.include({ near: 4, far: 12, reread: 12 })
    performance.now = ticks
  })

  it('finds each of many entries in memory, whatever came and went before', async () => {
    const store = memoryStore({ maxBytes: 1e9 })
    const { entries } = store
    const model = new Map<string, number>()
    const keys = scaled(2_000, 4_000)
    let seed = 7
    const next = (below: number) => {
      seed = (Math.imul(seed, 1_103_515_245) + 12_345) >>> 0
      return (seed >>> 8) % below
    }
    for (let i = 0; i < scaled(7_500, 15_000); i++) {
      const key = next(2) === 0 ? `${next(keys)}` : `GET https://tides.ebbline.example/v2/stations/st-${next(keys)}/tides ebbline.tides`
      if (next(4) === 0) {
        await entries.remove({ key })
        model.delete(key)
      } else {
        await entries.put(sampleEntry(key, { bornAt: i }), 0)
        model.set(key, i)
      }
    }
    expect(await entries.size()).to.have.property('entries', model.size)
    for (const [key, bornAt] of model) expect((await entries.get(key))?.bornAt, key).to.equal(bornAt)
    expect(await entries.get('st-1')).to.equal(undefined)
    for (const key of model.keys()) await entries.remove({ key })
    expect((await entries.size()).entries).to.equal(0)
  }).timeout(60_000)

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

    /** What makes a file of today one of an older format. */
    const tenth =
      'DROP VIEW readable_entry; ALTER TABLE entry DROP COLUMN price; DROP TABLE showing; DROP TABLE shown_piece;' +
      ['uses', 'saved', 'used_at'].map((name) => `ALTER TABLE entry_use DROP COLUMN ${name};`).join('')
    const ninth =
      tenth +
      ['entry_labelled', 'entry_relabelled', 'entry_unlabelled'].map((name) => `DROP TRIGGER ${name};`).join('') +
      'DROP TABLE entry_label; ALTER TABLE entry DROP COLUMN labels; ALTER TABLE claim DROP COLUMN labels;'
    const eighth = `${ninth} DROP TABLE claim; DROP TABLE opener; ALTER TABLE store DROP COLUMN removals; DROP VIEW readable_ledger;
      DROP VIEW readable_record;`
    for (const [format, older] of [
      [8, eighth],
      [9, ninth],
      [10, tenth],
    ] as const)
      it(`of format ${format} is brought up to date with everything in it, once it is opened to write; tools can read it`, async () => {
        const path = file(`older-${format}.db`)
        const of = (readOnly: boolean) =>
          openStash({
            ...{ store: sqliteStore(path, { readOnly }), warn: () => {} },
            fetch: async (input) =>
              String(input).endsWith('png') ? new Response(new Uint8Array([0, 1, 2])) : Response.json({ note: 'høyvann' }),
            providers: { ebbline: { baseUrl: 'https://x.example', endpoints: { tides: { request: 'GET /{id}', freshFor: '1 hour' } } } },
          })
        const first = await of(false)
        for (const id of ['a', 'b.png']) await (await first.fetch(`https://x.example/${id}`)).text()
        await first.close()
        withDriver(path, `${older} PRAGMA user_version = ${format}`)
        const refused = await of(true).catch((error: StoreError) => error.message)
        expect(refused).to.include('made by an older version').and.to.include('open it to write once')
        const stash = await of(false)
        expect(stash.outcomeOf(await stash.fetch('https://x.example/a'))?.how).to.equal('hit')
        expect((await stash.report()).totals.with?.asked).to.equal(3)
        await stash.close()
        await (await of(true)).close()
        const driver = openDriver(path)
        const today = new Date().toISOString().slice(0, 10)
        const read = (sql: string) => driver.prepare(sql).all()
        const rows = read(
          'SELECT key, status, body, substr(stored_at, 1, 10) AS day FROM readable_entry WHERE status IS NOT NULL ORDER BY key',
        )
        expect(rows.map(({ status, body, day }) => [status, body, day === today])).to.eql([
          [200, '{"note":"høyvann"}', true],
          [200, null, true],
        ])
        const counted = read('SELECT endpoint, grain, detail, substr(bucket, 1, 10) AS day, tally FROM readable_ledger')
        expect(counted.map(({ endpoint, grain, detail, day }) => [endpoint, grain, detail, day === today])).to.deep.include([
          'tides',
          'minute',
          'no',
          true,
        ])
        for (const { keep_until: until } of read('SELECT * FROM readable_record')) expect(String(until)).to.match(/^20\d\d-.*Z$/)
        driver.close()
      })

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

    /** What may befall a file that two processes use. */
    const losses: [what: string, befall: (path: string) => void, ...said: string[]][] = [
      ['deleted', (path) => rmSync(path), 'was deleted while it was in use: a new one was begun', 'was replaced by another file'],
      ['replaced by another store', (path) => renameSync(`${path}.other`, path), 'was replaced', 'was replaced'],
      ['cut to nothing', (path) => truncateSync(path, 0), 'is corrupt: it was renamed', 'was replaced'],
      ['separated from its log', (path) => rmSync(`${path}-wal`), 'is corrupt: it was renamed', 'was replaced'],
      ['filled with other bytes', (path) => writeFileSync(path, Buffer.alloc(statSync(path).size, 'Z')), 'is corrupt', 'was replaced'],
    ] // biome-ignore format: a row a line
    it('that is lost while two processes use it is begun anew and reported: no limit is exceeded, and no count lost', () =>
      Promise.all(
        losses
          .filter((_, i) => isLong || i === 0)
          .map(async ([what, befall, ...said], i) => {
            const path = file(`lost-${i}.db`)
            for (const each of [path, `${path}.other`]) {
              await using store = opened(sqliteStore(each))
              for (let n = 0; n < 200; n++) store.entries.put(sampleEntry(`GET https://x/${n}`, { body: new Uint8Array(2_000) }), 0)
            }
            const children = [1, 2].map(() => spawn(process.execPath, [losing, path, '200']))
            const waits = children.map(({ stdout }) => once(stdout, 'data'))
            void Promise.all(waits).then(() => setTimeout(() => befall(path), 50))
            let warnings = 0
            for (const { stdout } of children)
              stdout.on('data', (text) => {
                warnings += String(text).split('warned: ').length - 1
                if (warnings >= said.length) for (const { stdin } of children) stdin.end()
              })
            const lines = (await Promise.all(children.map(textOf))).flatMap((text) => text.trim().split('\n'))
            expect(lines.filter((line) => line === 'up').length, what).to.equal(200)
            const warned = lines.filter((line) => line.startsWith('warned: ')).sort()
            expect(warned.map((line) => said.find((words) => line.includes(words))).sort(), `${what}: ${warned.join()}`).to.eql(said.sort())
            const asked = lines.reduce((sum, line) => sum + Number(/^asked (\d+)$/.exec(line)?.[1] ?? 0), 0)
            await using store = opened(sqliteStore(path))
            expect(await askedIn(store), what).to.be.within(what === 'filled with other bytes' ? 0 : asked, asked)
          }),
      ))

    it('is given back when its stash is closed: no file handle stays open, and nothing beside it', async () => {
      const handles = () => readdirSync('/proc/self/fd').length
      const before = handles()
      for (let i = 0; i < scaled(8); i++) {
        const stash = await openStash({ store: sqliteStore(file(`closed-${i % 2}.db`)) })
        const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
        await find(`Marram ${i}`)
        await stash.close()
      }
      expect(handles()).to.be.at.most(before + 2)
      expect(readdirSync(file('.')).filter((name) => /^closed-\d\.db-/.test(name))).to.eql([])
    })

    it('is refused in a folder that does not exist, while locked, and when it may only be read', async () => {
      const messageOf = (path: string) =>
        openStash({ store: sqliteStore(path) }).then(
          () => 'opened',
          (error: StoreError) => `${error.code} ${error.message}`,
        )
      for (const unusable of ['no/such/folder.db', 'x'.repeat(300), 'a\0b', '../../dev/full'])
        expect(await messageOf(file(unusable)), unusable).to.match(/^STORE_UNUSABLE .*cannot be opened/)
      const path = file('locked.db')
      await (await openStash({ store: sqliteStore(path) })).close()
      const ticks = performance.now.bind(performance)
      performance.now = () => 50 * ticks() // a lock is waited for two seconds
      const other = openDriver(path)
      other.exec('BEGIN EXCLUSIVE')
      expect(await messageOf(path)).to.include('is locked by another process')
      other.exec('COMMIT')
      const warnings: string[] = []
      const stash = await openStash({ store: sqliteStore(path), warn: (message) => void warnings.push(message) })
      const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
      await find('Tern')
      other.exec('BEGIN IMMEDIATE')
      expect(await find('Marram')).to.equal('Marram')
      await stash.close()
      other.exec('COMMIT')
      expect(warnings.join()).to.match(/^the store cannot be written.* locked$/)
      expect(await messageOf(path)).to.equal('opened')
      other.close()
      performance.now = ticks
      chmodSync(path, 0o444)
      chmodSync(file('.'), 0o755)
      const { stdout } = spawnSync(process.execPath, [unprivileged, path], { encoding: 'utf8' })
      expect(stdout).to.include('cannot be written')
    })

    it('is shared by two processes: counts add up exactly, and an entry of one is a hit of the other', async () => {
      const path = file('shared.db')
      const counters = [1, 2].map(() => spawn(process.execPath, [counting, path, isLong ? '3000' : '300']))
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
      const seen = new Set<number>()
      const writtenCalls = async () => {
        await using store = opened(sqliteStore(path))
        const asked = await askedIn(store)
        seen.add(asked)
        return asked
      }
      while (seen.size < 4) await Promise.all([writtenCalls(), new Promise((resolve) => setTimeout(resolve, 10))])
      counter.kill('SIGKILL')
      const lines = await written
      const [total = 0, killedAt = 0] = lines.at(-1) ?? []
      const [secondOld = 0] = lines.findLast(([, at = 0]) => at <= killedAt - 1_000) ?? []
      const seenBefore = Math.max(...seen)
      const asked = await writtenCalls()
      expect(seenBefore).to.be.above(0)
      expect(asked).to.be.at.least(Math.max(secondOld, seenBefore))
      // one call may have been counted and written before its line was
      expect(asked).to.be.at.most(total + 1)
      let journaled = 0
      for await (const line of fileJournal(`${path}.jsonl`).read()) if ((JSON.parse(line) as { is: string }).is === 'call') journaled++
      expect(journaled).to.be.within(Math.max(secondOld, 1), total + 1)
    })
  })
})

const unprivileged = fileURLToPath(new URL('./support/unprivileged.process.js', import.meta.url))
const losing = fileURLToPath(new URL('./support/losing.process.js', import.meta.url))
const counting = fileURLToPath(new URL('./support/counting.process.js', import.meta.url))

/** What a process wrote before it ended. */
async function textOf(child: ReturnType<typeof spawn>): Promise<string> {
  let written = ''
  child.stdout?.on('data', (data: Buffer) => {
    written += data
  })
  await once(child, 'close')
  return written
}

/** The numbers on the whole lines that a process wrote before it ended. */
async function linesOf(child: ReturnType<typeof spawn>): Promise<number[][]> {
  return (await textOf(child))
    .split('\n')
    .slice(0, -1)
    .map((line) => line.split(' ').map(Number))
}

/** A store that is open until its end. */
function opened(store: Store): Store & AsyncDisposable {
  void store.open({ now: 0, warn: () => {} })
  return { ...store, [Symbol.asyncDispose]: async () => store.close() }
}

function withDriver(path: string, sql: string): void {
  const driver = openDriver(path)
  driver.exec(sql)
  driver.close()
}
