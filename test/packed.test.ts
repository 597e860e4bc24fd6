import { randomBytes } from 'node:crypto'
import { readdirSync, readFileSync } from 'node:fs'
import { setTimeout as pause } from 'node:timers/promises'
import { expect } from 'chai'
import fc from 'fast-check'
import { memoryStore, openStash, type Selection, type Store } from 'stashen'
import { layeredStore } from 'stashen/layered'
import { type EncryptionKey, type PackedStoreOptions, packedStore } from 'stashen/packed'
import { sqliteStore } from 'stashen/sqlite'
import { storeContract } from 'stashen/testing'
import { sampleEntry } from '../src/testing/entry-contract.js'
import { stashen } from './support/command-line.js'
import { temporaryFolder } from './support/files.js'
import { withQuickTimers } from './support/quick-timers.js'
import { eventually } from './support/real-upstream.js'
import { scaled } from './support/scale.js'
import { asynchronousStore } from './support/wrapped-store.js'

const key = (id: string): EncryptionKey => ({ id, secret: randomBytes(32) })
const base = 'https://tides.ebbline.example/v2'
const endpoints = {
  tides: { request: 'GET /tides/{id}', freshFor: '1 hour', labels: ['tide {id}'] },
  search: { request: 'GET /search', freshFor: '1 hour' },
} as const

describe('a packed store', () => {
  const file = temporaryFolder()
  let files = 0
  const opened = async (store: Store, warn = (message: string): void => expect.fail(message)) => {
    await store.open({ now: 0, warn })
    return store
  }

  const all = { compress: { above: 16 } }
  const kinds: [name: string, make: () => Store, digestsKeys?: boolean][] = [
    ['compressed memory', () => packedStore({ store: memoryStore(), ...all })],
    ['compressed SQLite', () => packedStore({ store: sqliteStore(file(`${files++}.db`)), compress: { above: 0, coding: 'br' } })],
    ['asynchronous compressed', () => packedStore({ store: asynchronousStore(), compress: { above: 0, coding: 'deflate' } })],
    ['encrypted memory', () => packedStore({ store: memoryStore(), encrypt: { keys: [key('a'), key('b')] } }), true],
    ['encrypted SQLite', () => packedStore({ store: sqliteStore(file(`${files++}.db`)), ...all, encrypt: { keys: [key('a')] } }), true],
    [
      'encrypted and near',
      () => layeredStore({ far: packedStore({ store: sqliteStore(file(`${files++}.db`)), encrypt: { keys: [key('a')] } }) }),
      true,
    ],
    ['unpacked', () => packedStore({ store: memoryStore() })],
  ]
  for (const [name, make, digestsKeys = false] of kinds)
    describe(`that is ${name}`, () => {
      for (const { name: rule, run } of storeContract(make, { digestsKeys, many: scaled(231) })) it(rule, () => withQuickTimers(run))
    })

  it('gives back every body and head as they were, whatever they hold, also to one that compresses otherwise or no more', async () => {
    const inner = await opened(memoryStore())
    const others: PackedStoreOptions[] = [
      { store: inner },
      { store: inner, compress: { coding: 'br', above: 0 } },
      { store: inner, compress: { coding: 'gzip', above: 10 } },
      { store: inner, compress: { coding: 'deflate', above: 1 } },
    ]
    const stores = others.map(packedStore)
    const any = fc.oneof(
      fc.uint8Array({ maxLength: 3_000, size: 'max' }),
      fc.tuple(fc.string(), fc.integer({ min: 0, max: 20_000 })).map(([text, times]) => new TextEncoder().encode(text.repeat(times % 300))),
    )
    const head = fc.constantFrom('', 'cbor', '{}', '{"status":200}', '{"status":200,"fields":[["a","packed gzip 7"]]}')
    await fc.assert(
      fc.asyncProperty(any, head, fc.nat(3), fc.nat(3), async (body, text, by, of) => {
        await stores[by]?.entries.put(sampleEntry('a', { body, head: text }), 0)
        const found = await stores[of]?.entries.get('a')
        expect(found).to.deep.include({ head: text, key: 'a', freshUntil: 2_000 })
        expect(Buffer.from(found?.body ?? []).equals(Buffer.from(body))).to.equal(true)
        const listed = await stores[of]?.entries.list({ all: true })
        expect(listed?.entries[0]).to.deep.include({ head: text, bytes: body.byteLength })
      }),
      { numRuns: scaled(30) },
    )
    const text = new TextEncoder().encode('{"height":2.4,"at":"2026-09-14T06:00Z"},'.repeat(2_000))
    for (const [i, store] of stores.entries()) {
      await store.entries.put(sampleEntry('a', { body: text }), 0)
      const { bytes } = await inner.entries.size()
      if (i > 0) expect(bytes, 'a hundredth').to.be.below(text.byteLength / 20)
      else expect(bytes).to.be.above(text.byteLength)
    }
    await stores[2]?.entries.put(sampleEntry('b', { body: randomBytes(5_000), head: '{"status":200}' }), 0)
    expect((await inner.entries.get('b'))?.head, 'what gains nothing stays').to.equal('{"status":200}')
  })

  it('holds nothing that can be read of answers, keys, labels, callers and arguments where it is encrypted, and everything else works', async () => {
    const keys = [key('2026-11')]
    const place = file('secret.db')
    const named: string[] = []
    const stash = await openStash({
      store: packedStore({ store: sqliteStore(place), compress: { above: 10 }, encrypt: { keys } }),
      warn: (message) => named.push(message),
      fetch: async (input) =>
        new Response(`Marram ${String(input)} ${'lies at the quay '.repeat(20)}`, {
          headers: { 'x-berth': 'Skarholm-quay', etag: '"tag7"' },
        }),
      providers: { ebbline: { baseUrl: base, endpoints } },
    })
    const ask = async (path: string, headers = {}) => {
      const response = await stash.fetch(`${base}${path}`, { headers })
      await response.text()
      return stash.outcomeOf(response)?.how
    }
    const find = stash.operation('ebbline.vessel', async (name: string) => `${name} is a fishing vessel`, { freshFor: '1 hour' })
    for (const how of ['forwarded', 'hit']) {
      for (const id of ['kelpmouth', 'skarholm']) expect(await ask(`/tides/${id}`)).to.equal(how)
      expect(await ask('/search?q=tangle', { authorization: 'Bearer hush-hush' })).to.equal(how)
      await find('Dulse')
      await eventually(() => stash.has(`${base}/tides/skarholm`))
      await pause(50) // until all else is stored
    }
    expect(await ask('/search?q=tangle', { authorization: 'Bearer other' }), 'of another caller').to.equal('forwarded')
    expect(await stash.has(`${base}/tides/kelpmouth`)).to.equal(true)
    await stash.invalidate({ label: 'tide kelpmouth' })
    expect(await ask('/tides/kelpmouth')).to.equal('forwarded')
    expect(await stash.purge({ key: `GET ${base}/search*` })).to.eql({ entries: 2 })
    expect(await ask('/search?q=tangle', { authorization: 'Bearer hush-hush' })).to.equal('forwarded')
    await stash.fetch(`${base}/tides/skarholm`, { method: 'PUT' })
    expect(await ask('/tides/skarholm'), 'a write has invalidated it').to.equal('forwarded')
    const listed: string[] = []
    for await (const entry of stash.entries()) listed.push(`${entry.key.split(' ').slice(0, 2).join(' ')} ${entry.labels} ${entry.status}`)
    expect(listed).to.have.members([
      `GET ${base}/tides/kelpmouth tide kelpmouth 200`,
      `GET ${base}/tides/skarholm tide skarholm 200`,
      `GET ${base}/search?q=tangle  200`,
      'ebbline.vessel["Dulse"]  null',
    ])
    expect((await stash.report()).totals.with).to.include({ fromStore: 4 })
    await stash.close()
    expect(named).to.eql([])
    const written = Buffer.concat(
      readdirSync(file('.')).map((name) => (name.startsWith('secret') ? readFileSync(file(name)) : Buffer.alloc(0))),
    )
    const needles = [
      'kelpmouth',
      'skarholm',
      'Skarholm',
      'tangle',
      'hush',
      'Marram',
      'quay',
      'x-berth',
      'tag7',
      'Dulse',
      'GET http',
      'caller:',
    ]
    for (const needle of needles) expect(written.includes(needle), `"${needle}" is in the file`).to.equal(false)
    expect(written.includes(Buffer.from(keys[0]?.secret as Uint8Array))).to.equal(false)
    expect(written.includes('2026-11'), 'the name of the key').to.equal(true)
    const commandWith = async (given?: string) => {
      if (given !== undefined) process.env.STASHEN_ENCRYPTION_KEYS = given
      try {
        return await stashen('entries', '--store', place)
      } finally {
        delete process.env.STASHEN_ENCRYPTION_KEYS
      }
    }
    const secret = Buffer.from(keys[0]?.secret as Uint8Array).toString('base64')
    expect((await commandWith(`2026-11:${secret}`)).stdout)
      .to.include('4 answers')
      .and.to.include('kelpmouth')
    const without = await commandWith()
    expect(without.stdout).to.equal('no stored response matches\n')
    expect(without.stderr).to.include('encrypted with the key "2026-11", which was not given').and.to.include('STASHEN_ENCRYPTION_KEYS')
    const wrong = await commandWith(`2026-11:${secret.slice(4)}`)
    expect(wrong.code).to.equal(2)
    expect(wrong.stderr)
      .to.include('STASHEN_ENCRYPTION_KEYS holds something else than keys: give ID:SECRET')
      .and.not.to.include(secret.slice(4))
  }).timeout(30_000)

  it('reads what older keys encrypted, encrypts with the first, and counts what it has no key for as absent', async () => {
    const inner = memoryStore()
    const [old, now] = [key('old'), key('now')]
    const warnings: string[] = []
    const by = (...keys: EncryptionKey[]) =>
      opened(packedStore({ store: inner, encrypt: { keys } }), (message) => void warnings.push(message))
    const keysOf = async ({ entries }: Store, selection: Selection = { all: true }) => {
      const found: string[] = []
      for (let after: string | undefined; ; ) {
        const page = await entries.list(selection, { after, most: 1 })
        found.push(...page.entries.map((one) => one.key))
        after = page.next
        if (after === undefined) return found.sort()
      }
    }
    const before = await by(old)
    for (const name of ['a', 'a caller:1', 'b', 'c']) await before.entries.put(sampleEntry(name, { labels: [`label of ${name}`] }), 0)
    const both = await by(now, old)
    expect(await keysOf(both)).to.eql(['a', 'a caller:1', 'b', 'c'])
    expect(await both.entries.get('a caller:1')).to.deep.include({ key: 'a caller:1', labels: ['label of a caller:1'] })
    await both.entries.put(sampleEntry('a', { body: new Uint8Array([9]) }), 0)
    expect((await inner.entries.size()).entries, 'in place of the older one').to.equal(4)
    await both.entries.updateTimes('b', { ...sampleEntry('b'), freshUntil: 2_500 })
    expect((await both.entries.get('b'))?.freshUntil).to.equal(2_500)
    expect(await both.entries.invalidate({ under: 'a' }, 1_500)).to.eql({ entries: 2, next: undefined })
    for (const name of ['a', 'a caller:1']) expect((await both.entries.get(name))?.invalidated, name).to.equal(true)
    expect(await keysOf(both, { label: 'label of c' })).to.eql(['c'])
    expect(await both.entries.remove({ label: 'label of c' })).to.eql({ entries: 1, more: false })
    expect(warnings).to.eql([])
    const after = await by(now)
    expect(await keysOf(after)).to.eql(['a'])
    expect(await after.entries.get('b')).to.equal(undefined)
    const none = await by(key('now')) // another secret of the same name
    expect(await keysOf(none)).to.eql([])
    expect(await none.entries.get('a')).to.equal(undefined)
    expect((await inner.entries.size()).entries, 'what others encrypted stays').to.equal(3)
    expect(warnings).to.eql([])
    await by(key('third'))
    expect(warnings).to.have.length(1)
    expect(warnings[0]).to.match(/encrypted with the key "(now|old)", "(now|old)", which was not given/)
  })

  it('takes nothing for an answer that was changed, moved or cut in the store: the call leaves, and the entry is dropped and counted', async () => {
    for (const encrypt of [undefined, { keys: [key('a')] }]) {
      const inner = memoryStore()
      let asked = 0
      await using stash = await openStash({
        store: packedStore({ store: inner, compress: { above: 10 }, ...(encrypt && { encrypt }) }),
        warn: () => {},
        fetch: async (input) => new Response(`${++asked} ${String(input).repeat(30)}`),
        providers: { ebbline: { baseUrl: base, endpoints } },
      })
      const ask = async (id: string) => {
        const text = await (await stash.fetch(`${base}/tides/${id}`)).text()
        await eventually(() => stash.has(`${base}/tides/${id}`))
        return text
      }
      const digests = async () => (await inner.entries.list({ all: true })).entries.map((one) => one.key)
      const spoils: [what: string, spoil: (body: Uint8Array, head: string) => { body?: Uint8Array; head?: string }][] = [
        ['cut', (body) => ({ body: body.slice(0, -4) })],
        ['longer', (body) => ({ body: Uint8Array.from([...body.slice(0, 12), 0, ...body.slice(12)]) })],
        ['empty', () => ({ body: new Uint8Array() })],
        ['changed', (body) => ({ body: body.map((byte, i) => (i === body.length >> 1 ? byte ^ 1 : byte)) })],
        ['of another length', (body, head) => ({ body: encrypt ? body.slice(1) : body, head: head.replace(/gzip \d+/, 'gzip 9') })],
      ]
      for (const [what, spoil] of spoils) {
        await ask('a')
        const [digest = ''] = await digests()
        const entry = await inner.entries.get(digest)
        if (!entry) throw new Error('nothing is stored')
        const { memo: _, ...rest } = entry
        await inner.entries.put({ ...rest, ...spoil(entry.body, entry.head) }, 0)
        const was = asked
        expect(await ask('a'), `${what}, ${encrypt ? 'encrypted' : 'compressed'}`).to.match(new RegExp(`^${was + 1} `))
        expect(await ask('a'), 'and then stored').to.match(new RegExp(`^${was + 1} `))
      }
      expect((await stash.report()).totals.with?.corrupt).to.equal(spoils.length)
      if (!encrypt) continue
      await ask('b')
      const two = await Promise.all((await digests()).map((digest) => inner.entries.get(digest)))
      for (const [i, one] of two.entries()) {
        const other = two[1 - i]
        if (!one || !other) throw new Error('two are stored')
        const { memo: _, ...rest } = one
        await inner.entries.put({ ...rest, head: other.head, body: other.body }, 0)
      }
      const was = asked
      for (const id of ['a', 'b']) expect(await ask(id), 'each in the place of the other').to.include(`/tides/${id}`)
      expect(asked).to.equal(was + 2)
    }
  })

  it('is never read by a process that does not know of it: what is compressed or encrypted is fetched again, and said to be so', async () => {
    for (const options of [{ compress: { above: 10 } }, { encrypt: { keys: [key('a')] } }]) {
      const inner = memoryStore()
      let asked = 0
      const told: string[] = []
      const open = (store: Store) =>
        openStash({
          ...{ store: { ...store, open: () => {}, close: () => {} }, warn() {} },
          fetch: async (input) => new Response(`${++asked} ${String(input).repeat(30)}`),
          providers: { ebbline: { baseUrl: base, endpoints } },
        })
      await using stash = await open(packedStore({ store: inner, ...options }))
      await using plain = await open(inner)
      plain.on('corrupt-entry', ({ error }) => void told.push((error as Error).message))
      const noted = async (by: typeof stash) => {
        const find = by.operation('ebbline.level', async (name: string) => `${name} ${++asked} ${'2.4 m '.repeat(50)}`, {
          freshFor: '1 hour',
        })
        return [await (await by.fetch(`${base}/tides/a`)).text(), await find('Kelpmouth')].map((text) => text.slice(0, 30))
      }
      const [url, value] = await noted(stash)
      await eventually(async () => (await inner.entries.size()).entries === 2)
      const [otherUrl, otherValue] = await noted(plain)
      expect([url?.slice(0, 2), value, otherUrl?.slice(0, 2), otherValue?.slice(0, 12)]).to.eql([
        '1 ',
        'Kelpmouth 2 2.4 m 2.4 m 2.4 m ',
        '3 ',
        'Kelpmouth 4 ',
      ])
      expect(told).to.eql(
        options.encrypt ? [] : Array(2).fill('the entry is compressed or encrypted: open its store with packedStore, in every process'),
      )
    }
  })

  it('has one upstream call made of two stashes, and what one purges reaches the near copies of the other', async () => {
    const keys = [key('a')]
    const place = file('shared.db')
    const heard = new Set<(selection: Selection) => void>()
    const far = (): Store => {
      const store = sqliteStore(place)
      const { entries } = store
      const told = (selection: Selection) => {
        for (const one of heard) one(selection)
      }
      const telling: Store['entries'] = {
        get: (one) => entries.get(one),
        put(entry, ...rest) {
          told({ key: entry.key })
          return entries.put(entry, ...rest)
        },
        updateTimes: (...args) => entries.updateTimes(...args),
        invalidate: (...args) => entries.invalidate(...args),
        remove(selection) {
          told(selection)
          return entries.remove(selection)
        },
        trim: (...args) => entries.trim(...args),
        list: (...args) => entries.list(...args),
        sweep: (now) => entries.sweep(now),
        size: () => entries.size(),
        claims: entries.claims,
      }
      const onChange = (changed: (selection: Selection) => void) => {
        heard.add(changed)
        return () => void heard.delete(changed)
      }
      return { ...store, entries: telling, onChange, open: (opening) => store.open(opening), close: () => store.close() }
    }
    let asked = 0
    const machine = () =>
      openStash({
        store: layeredStore({ far: packedStore({ store: far(), encrypt: { keys } }), nearFor: '1 hour' }),
        async fetch(input) {
          asked++
          await new Promise((resolve) => setTimeout(resolve, 50))
          return new Response(`${String(input)} ${asked}`)
        },
        providers: { ebbline: { baseUrl: base, endpoints } },
      })
    await using one = await machine()
    await using other = await machine()
    const ask = async (stash: typeof one, id = 'a') => (await stash.fetch(`${base}/tides/${id}`)).text()
    await ask(one, 'before')
    const all = await Promise.all([one, other].flatMap((stash) => Array.from({ length: 20 }, () => ask(stash))))
    expect([...new Set(all)]).to.eql([`${base}/tides/a 2`])
    for (const stash of [one, other]) for (let i = 0; i < 2; i++) expect(await ask(stash)).to.equal(`${base}/tides/a 2`)
    await one.purge({ key: `GET ${base}/tides/a*` })
    expect(await ask(other)).to.equal(`${base}/tides/a 3`)
    expect(await ask(one)).to.equal(`${base}/tides/a 3`)
    expect(asked).to.equal(3)
  })

  it('gives changes to the store in the order in which they were asked for, though compressing takes its time', async () => {
    const store = await opened(packedStore({ store: memoryStore(), compress: true }))
    const large = new Uint8Array(3_000_000)
    for (let i = 0; i < 5; i++) {
      const put = store.entries.put(sampleEntry('a', { body: large }), 0)
      const dropped = store.entries.remove({ key: 'a' })
      expect(put, 'beside the event loop').to.be.instanceOf(Promise)
      await Promise.all([put, dropped])
      expect(await store.entries.get('a')).to.equal(undefined)
      await Promise.all([store.entries.put(sampleEntry('a', { body: large }), 0), store.entries.put(sampleEntry('a'), 0)])
      expect((await store.entries.get('a'))?.body.byteLength).to.equal(3)
    }
  })

  it('refuses what nothing can be done with, and shows no secret', () => {
    const store = memoryStore()
    const secret = randomBytes(32)
    const rows: [options: object | undefined, message: string][] = [
      [undefined, '"store" of packedStore is nothing'],
      [{ store, compress: 'br' }, '"compress" of packedStore is "br": give true, false or { coding, above }'],
      [{ store, compress: null }, '"compress" of packedStore is null: give true, false or { coding, above }'],
      [{ store, encrypt: null }, '"encrypt.keys" of packedStore has no key: give a list of { id, secret }'],
      [{ store, encrypt: { keys: [null] } }, '"encrypt.keys[0].id" of packedStore is nothing: give up to 64 letters'],
      [{}, '"store" of packedStore is nothing: give a store, such as redisStore()'],
      [{ store, compress: { coding: 'zip' } }, '"coding" of packedStore is "zip": give gzip, deflate, br'],
      [{ store, compress: { above: -1 } }, '"above" of packedStore is -1: give a whole number of bytes'],
      [{ store, encrypt: {} }, '"encrypt.keys" of packedStore has no key: give a list of { id, secret }'],
      [{ store, encrypt: { keys: [] } }, '"encrypt.keys" of packedStore has no key'],
      [{ store, encrypt: { keys: [{ id: 'a b', secret }] } }, '"encrypt.keys[0].id" of packedStore is "a b": give up to 64 letters'],
      [{ store, encrypt: { keys: [{ id: 'a', secret: secret.subarray(1) }] } }, '"encrypt.keys[0].secret" of packedStore is not 32 bytes'],
      [{ store, encrypt: { keys: [{ id: 'a', secret: 'hush-hush' }] } }, '"encrypt.keys[0].secret" of packedStore is not 32 bytes'],
      [{ store, encrypt: { keys: [{ id: 'a' }] } }, '"encrypt.keys[0].secret" of packedStore is not 32 bytes'],
      [{ store, encrypt: { keys: [key('a'), key('a')] } }, '"encrypt.keys" of packedStore has "a" twice'],
    ]
    for (const [options, message] of rows) {
      expect(() => packedStore(options as PackedStoreOptions), message).to.throw(message)
      expect(() => packedStore(options as PackedStoreOptions)).to.not.throw('hush')
    }
  })
})
