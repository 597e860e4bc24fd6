import { expect } from 'chai'
import * as fc from 'fast-check'
import { type EntrySelector, memoryStore, openStash, type Stash, type Store, type StoredEntry } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { sqliteStore } from 'stashen/sqlite'
import { temporaryFolder } from './support/files.js'
import { scaled } from './support/scale.js'
import { asynchronousStore } from './support/wrapped-store.js'

const [tides, dues] = ['https://tides.ebbline.example/v2', 'https://dues.quayrate.example/v1']
const noon = Date.UTC(2026, 5, 30, 10)
const minute = 60_000

describe('looking inside', () => {
  const file = temporaryFolder()
  let files = 0
  const kinds: [name: string, make: () => Store][] = [
    ['memory', () => memoryStore()],
    ['asynchronous memory', () => asynchronousStore()],
    ['SQLite', () => sqliteStore(file(`entries-${files++}.db`))],
  ]
  /** Statuses of the upstream by the last part of the path; an error where there is none. */
  let fails = false
  let calls = 0

  async function opened(store: Store, now: () => number): Promise<Stash> {
    calls = 0
    fails = false
    const clock = new FastClock(noon)
    const reuse = { freshFor: '1 hour', staleIfError: '1 day', freshForStatus: { 404: '10 minutes' } }
    return openStash({
      ...{ store, warn() {} },
      clock: { now, ticks: () => clock.ticks(), later: (ms, run, alive) => setTimeoutLater(ms, run, alive) },
      fetch: async (input) => {
        calls++
        if (fails) throw new Error('down')
        const url = String(input instanceof Request ? input.url : input)
        return new Response(`${calls}`, {
          status: url.endsWith('/absent') ? 404 : 200,
          headers: { vary: url.includes('vary') ? 'accept-language' : '' },
        })
      },
      providers: {
        ebbline: {
          baseUrl: tides,
          endpoints: { station: { request: 'GET /stations/{id}', ...reuse }, tides: { request: 'GET /tides/{id}', ...reuse } },
        },
        quayrate: { baseUrl: dues, endpoints: { quote: { request: 'GET /quotes/{id}', ...reuse } } },
      },
    })
  }

  for (const [name, make] of kinds) {
    it(`says of each answer in a ${name} store how often it was given, when last, and what that saved`, async () => {
      let now = noon
      let down = false
      const store = make()
      await using stash = await openStash({
        ...{ store, warn() {} },
        clock: { now: () => now, ticks: () => now, later: (ms, run, alive) => setTimeoutLater(ms, run, alive) },
        async fetch() {
          if (down) throw new Error('down')
          return new Response('high')
        },
        providers: {
          quayrate: {
            baseUrl: dues,
            plan: { currency: 'EUR', perCall: '0.05' },
            endpoints: { quote: { request: 'GET /quotes/{id}', freshFor: '1 hour', staleIfError: '1 day', holdOff: 0 } },
          },
          ebbline: { baseUrl: tides, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } },
        },
      })
      const rate = stash.operation('quayrate.rate', async (id: string) => ({ id }), { freshFor: '1 hour', perCall: '0.20' })
      const ask = async (url: string) => (await stash.fetch(url)).text()
      for (let i = 0; i < 4; i++) {
        now += minute
        await ask(`${dues}/quotes/1`)
        await ask(`${tides}/tides/1`)
        await rate('kelpmouth')
        await new Promise((resolve) => setTimeout(resolve, 5))
      }
      await ask(`${dues}/quotes/2`)
      now += 120 * minute
      down = true
      await ask(`${dues}/quotes/1`)
      await new Promise((resolve) => setTimeout(resolve, 5))
      const said: Record<string, unknown> = {}
      for await (const { key, uses, lastUsedAt, price, saved } of stash.entries()) {
        const minutes = lastUsedAt && (lastUsedAt.getTime() - noon) / minute
        said[key.replace(/^.*\/(\w+\/\w+).*$/, '$1')] = [uses, minutes, price?.amount ?? null, saved?.amount ?? null]
      }
      expect(said).to.eql(
        store.entries.given
          ? {
              'quotes/1': [4, 124, '0.05', '0.15'],
              'quotes/2': [null, null, '0.05', null],
              'tides/1': [3, 4, null, null],
              'quayrate.rate["kelpmouth"]': [3, 4, '0.20', '0.6'],
            }
          : {
              'quotes/1': [null, null, '0.05', null],
              'quotes/2': [null, null, '0.05', null],
              'tides/1': [null, null, null, null],
              'quayrate.rate["kelpmouth"]': [null, null, '0.20', null],
            },
      )
      expect((await stash.report()).totals.saved?.money).to.eql([{ currency: 'EUR', amount: '0.75' }])
      const spoilt = { currency: 'euro', amount: 'much' }
      const [first] = (await store.entries.list({ provider: 'quayrate' })).entries
      const entry = first && (await store.entries.get(first.key))
      if (entry) await store.entries.put({ ...entry, price: spoilt }, now)
      for await (const one of stash.entries({ key: entry?.key })) expect(one).to.include({ price: null, saved: null })
    })

    it(`finds, invalidates and drops in a ${name} store what a selector means, and nothing else`, async () => {
      let now = noon
      await using stash = await opened(make(), () => now)
      const lookUp = stash.operation('skerrylight.vessel', async (id: string) => ({ id }), { freshFor: '1 hour' })
      const get = async (url: string, language?: string) =>
        (await stash.fetch(url, language === undefined ? undefined : { headers: { 'accept-language': language } })).text()
      const urls = [
        `${tides}/stations/1`,
        `${tides}/stations/absent`,
        `${tides}/tides/1`,
        `${tides}/tides/2`,
        `${dues}/quotes/1`,
        `${dues}/quotes/absent`,
      ]
      for (const url of urls) await get(url)
      for (const language of ['no', 'en']) await get(`${tides}/tides/vary`, language)
      await lookUp('v-201')
      now += 30 * minute
      await get(`${tides}/tides/3`)
      const keys = async (selector: EntrySelector = {}) => {
        const found: string[] = []
        for await (const entry of stash.entries(selector)) found.push(entry.key)
        return found
      }
      const all = await keys()
      expect(all).to.have.length(10)
      expect(all, 'in their order').to.eql([...all].sort())
      const entries: StoredEntry[] = []
      for await (const entry of stash.entries()) entries.push(entry)
      /** What each selector means, said in another way. */
      const facts = {
        provider: fc.constantFrom('ebbline', 'quayrate', 'skerrylight', 'absent'),
        endpoint: fc.constantFrom('station', 'tides', 'quote', 'vessel'),
        key: fc.constantFrom('GET *', `GET ${tides}/*`, '*tides*', '*v-201*', '*1*1*', '*', all[0] as string, 'GET*', '*ebbline.tides'),
        status: fc.constantFrom<number | string>(200, '404', '4xx', '2XX', 500),
        state: fc.constantFrom('fresh' as const, 'stale' as const, 'invalidated' as const),
        olderThan: fc.constantFrom('10 minutes', '0 s', '2 hours'),
        newerThan: fc.constantFrom('10 minutes', '31 minutes'),
      }
      const ages: Record<string, number> = { '10 minutes': 10, '31 minutes': 31, '2 hours': 120 }
      const meant = (selector: EntrySelector) =>
        entries.filter((one) => {
          const { provider = one.provider, endpoint = one.endpoint, key = '*', status, state = one.state, olderThan, newerThan } = selector
          const pattern = new RegExp(
            `^${key
              .split('*')
              .map((part) => part.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'))
              .join('.*')}$`,
          )
          const isOfClass =
            status === undefined || one.status === Number(status) || `${String(one.status)[0]}xx` === String(status).toLowerCase()
          const isOld = olderThan === undefined || one.ageMs > (ages[olderThan] ?? 0) * minute
          const isNew = newerThan === undefined || one.ageMs < (ages[newerThan] as number) * minute
          return (
            one.provider === provider &&
            one.endpoint === endpoint &&
            one.state === state &&
            isOld &&
            isNew &&
            isOfClass &&
            pattern.test(one.key)
          )
        })
      await fc.assert(
        fc.asyncProperty(fc.record(facts, { requiredKeys: [] }), async (selector) => {
          const expected = meant(selector).map(({ key }) => key)
          expect(await keys(selector), JSON.stringify(selector)).to.eql(expected)
          for (const change of ['invalidate', 'purge'] as const)
            expect(await stash[change](selector, { dryRun: true })).to.eql({ entries: expected.length })
        }),
        { numRuns: scaled(10) },
      )
      expect(await keys(), 'a dry run changes nothing').to.eql(all)

      expect(await stash.invalidate({ status: 404 })).to.eql({ entries: 2 })
      expect(await keys({ state: 'stale' })).to.have.length(2)
      expect(await stash.purge({ provider: 'quayrate' })).to.eql({ entries: 2 })
      expect(await stash.purge({ key: all.find((key) => key.includes('tides/1')) })).to.eql({ entries: 1 })
      expect(await keys()).to.have.length(7)
      const before = calls
      await get(`${tides}/tides/2`)
      expect(calls, 'what was not meant is a hit').to.equal(before)
      await get(`${tides}/tides/1`)
      await get(`${dues}/quotes/1`)
      expect(calls, 'what was dropped is fetched').to.equal(before + 2)
      expect(await stash.invalidate({ endpoint: 'vessel' })).to.eql({ entries: 1 })
      expect((await lookUp.withOutcome('v-201')).outcome.how).to.equal('forwarded')
      expect(await stash.sweep(), 'all may be given yet').to.eql({ entries: 0 })
      const left = (await keys()).length
      now += 24 * 60 * minute // what came half an hour ago, and with a day in which it may stand in for failures, is left
      const { entries: swept } = await stash.sweep()
      expect([(await keys()).length, swept > 0]).to.eql([left - swept, true])
      expect(await stash.sweep()).to.eql({ entries: 0 })
      await stash.purge({}, { everything: true })
      expect(await keys()).to.eql([])
      expect((await stash.report()).totals.with?.upstream, 'the ledger stays').to.be.greaterThan(10)
    })
  }

  for (const [name, make] of kinds)
    it(`stores in a ${name} store what it is given, in place of what is stored and of what is on its way`, async () => {
      let now = noon
      const arrive: (() => void)[] = []
      const told: string[] = []
      await using stash = await openStash({
        ...{ store: make(), warn: (message) => told.push(message), refusals: 'throw' },
        clock: { now: () => now, ticks: () => performance.now(), later: setTimeoutLater },
        fetch: async () => {
          calls++
          await new Promise<void>((resolve) => arrive.push(resolve))
          return new Response('upstream')
        },
        providers: {
          ebbline: {
            baseUrl: tides,
            plan: { currency: 'EUR', perCall: '0.01' },
            endpoints: {
              tides: { request: 'GET /tides/{id}', freshFor: '1 hour' },
              ships: { request: 'GET /ships/{id}', freshFor: '1 hour', trust: 'upstream' },
              quotes: { request: 'POST /quotes', safe: true, freshFor: '1 hour' },
              write: { request: 'PUT /tides/{id}' },
              live: { request: 'GET /live/{id}', freshFor: '1 hour', mode: 'measure' },
            },
          },
        },
      })
      calls = 0
      const asked = async (input: string | Request) => {
        const response = await stash.fetch(input)
        return `${await response.text()} ${stash.outcomeOf(response)?.how}`
      }
      const url = `${tides}/tides/1`
      expect(await stash.put(url, new Response('put', { headers: { 'content-type': 'text/plain' } }))).to.eql({
        ...{ stored: true, freshUntil: new Date(now + 60 * minute) },
      })
      expect(await asked(url)).to.equal('put hit')
      now += 61 * minute
      const slow = asked(url)
      while (arrive.length === 0) await new Promise((resolve) => setTimeout(resolve, 1))
      await stash.put(new URL(url), new Response('newer'))
      expect(await asked(url)).to.equal('newer hit')
      arrive.shift()?.()
      expect(await slow, 'its own caller has what came').to.equal('upstream forwarded')
      expect(await asked(url), 'and it is not stored').to.equal('newer hit')

      const post = (day: string) =>
        new Request(`${tides}/quotes`, { method: 'POST', body: JSON.stringify({ day }), headers: { 'content-type': 'application/json' } })
      await stash.put(post('monday'), Response.json({ dues: '12.50' }))
      expect(await asked(post('monday'))).to.equal('{"dues":"12.50"} hit')
      const en = (id: string) => new Request(`${tides}/ships/${id}`, { headers: { 'accept-language': 'en' } })
      await stash.put(en('marram'), new Response('Marram', { headers: { vary: 'accept-language', 'cache-control': 'max-age=60' } }))
      expect(await asked(en('marram'))).to.equal('Marram hit')
      const refused: [input: string | Request, answer: Response, why: string][] = [
        [en('secret'), new Response('x', { headers: { 'cache-control': 'no-store' } }), 'no-store'],
        [`${tides}/tides/2`, new Response('gone', { status: 404 }), 'status'],
        [`${tides}/tides/2`, new Response('gone', { status: 503 }), 'status'],
        [`${tides}/live/2`, new Response('x'), 'not-reusable'],
        [new Request(`${tides}/tides/2`, { method: 'PUT', body: 'x' }), new Response('x'), 'not-reusable'],
        [`${tides}/tides/2`, new Response(new Uint8Array(2_000_000)), 'too-large'],
      ]
      for (const [input, answer, notStored] of refused)
        expect(await stash.put(input, answer), notStored).to.eql({ stored: false, notStored })

      const find = stash.operation('skerrylight.find', async (name: string) => ({ name, from: 'sdk' }), { freshFor: '1 hour' })
      expect((await find.put(['Marram'], { name: 'Marram', from: 'webhook' })).stored).to.equal(true)
      expect(await find('Marram')).to.eql({ name: 'Marram', from: 'webhook' })
      expect(await find('Kelpie')).to.eql({ name: 'Kelpie', from: 'sdk' })
      class Vessel {
        readonly #secret = 1
        get it() {
          return this.#secret
        }
      }
      expect(await find.put(['odd'], new Vessel() as never)).to.eql({ stored: false, notStored: 'inexact' })

      const read = new Response('read')
      await read.text()
      for (const [input, answer, ...words] of [
        ['https://other.example/x', new Response('x'), 'no endpoint covers GET https://other.example/x'],
        [url, 'text', 'give a Response'],
        [url, undefined, 'give a Response'],
        [url, read, 'answer.clone()'],
      ] as unknown as [string, Response, ...string[]][]) {
        const error = await stash.put(input, answer).catch((caught: unknown) => caught)
        expect(error, String(words)).to.have.property('code', 'USAGE')
        for (const word of words) expect((error as Error).message).to.include(word)
      }
      const { totals } = await stash.report()
      expect(totals.with, 'nothing that was put is a call').to.include({ upstream: 1 + 1, asked: 8 })
      expect(calls).to.equal(1)
    })

  it('keeps what was invalidated for when asking again fails, and says whether a request would be answered', async () => {
    let now = noon
    await using stash = await opened(memoryStore(), () => now)
    const url = `${tides}/tides/1`
    expect(await stash.has(url)).to.equal(false)
    await stash.fetch(url)
    expect([await stash.has(url), await stash.has(`${tides}/tides/2`)]).to.eql([true, false])
    now += minute
    await stash.invalidate({ provider: 'ebbline', endpoint: 'tides' })
    expect(await stash.has(url)).to.equal(false)
    fails = true
    const older = await stash.fetch(url)
    expect([await older.text(), stash.outcomeOf(older)?.how, calls]).to.eql(['1', 'stale', 2])
    await stash.purge({ key: '*tides/1*' })
    expect(await stash.fetch(url).catch((error: Error) => error.name), 'nothing is left to give').to.equal('HeldOffError')
  })

  for (const change of ['invalidate', 'purge'] as const)
    it(`does not store what left before it was told to ${change}`, async () => {
      const arrive: (() => void)[] = []
      let version = 1
      await using stash = await openStash({
        fetch: async () => {
          const body = `${version}`
          await new Promise<void>((resolve) => arrive.push(resolve))
          return new Response(body)
        },
        providers: { ebbline: { baseUrl: tides, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } } },
      })
      const url = `${tides}/tides/1`
      const next = async (text: Promise<Response>) => {
        while (arrive.length === 0) await new Promise((resolve) => setTimeout(resolve, 1))
        arrive.shift()?.()
        return (await text).text()
      }
      const first = stash.fetch(url)
      while (arrive.length === 0) await new Promise((resolve) => setTimeout(resolve, 1))
      version = 2
      await stash[change]({ endpoint: 'tides' })
      const second = stash.fetch(url)
      while (arrive.length < 2) await new Promise((resolve) => setTimeout(resolve, 1))
      expect(await next(first)).to.equal('1')
      expect(await next(second), 'not that of the one before').to.equal('2')
      expect(await (await stash.fetch(url)).text()).to.equal('2')
    })

  it('finds answers by the arguments of an operation and by who called, and says how much there is of each endpoint', async () => {
    await using stash = await opened(memoryStore(), () => noon)
    const find = (version?: number) =>
      stash.operation(`skerrylight.find${version ?? ''}`, async (...args: unknown[]) => args.length, { freshFor: '1 day', version })
    const [plain, second] = [find(), find(2)]
    const calls: unknown[][] = [['v-201'], ['v-201', { day: 1 }], [], ['v-2011'], [{ b: 1, a: [new Date(5)] }]]
    for (const args of calls) for (const operation of [plain, second]) await operation(...args)
    const found = async (selector: EntrySelector) => {
      const keys: string[] = []
      for await (const { key } of stash.entries(selector)) keys.push(key)
      return keys
    }
    for (const args of calls) expect(await found({ arguments: args }), JSON.stringify(args)).to.have.length(2)
    expect(await found({ arguments: ['v-201', { day: 1 }], endpoint: 'find' })).to.eql(['skerrylight.find["v-201",{"day":1}]'])
    expect(await found({ arguments: ['v-201', undefined] }), 'as if left out').to.have.length(2)
    expect(await stash.purge({ arguments: ['v-201'], provider: 'skerrylight' })).to.eql({ entries: 2 })
    for (const authorization of ['Bearer a', 'Bearer b', undefined])
      await (await stash.fetch(`${tides}/stations/1`, authorization === undefined ? {} : { headers: { authorization } })).text()
    const callers = (await found({ key: 'GET *' })).flatMap((key) => / caller:(\w+)/.exec(key)?.[1] ?? [])
    expect(callers).to.have.length(2)
    for (const caller of callers) {
      expect(await found({ caller })).to.eql(await found({ caller: caller.slice(0, 8) }))
      expect(await stash.invalidate({ caller }, { dryRun: true })).to.eql({ entries: 1 })
    }
    const { store } = await stash.status({ endpoints: true })
    expect(store.endpoints?.map(({ endpoint, entries }) => [endpoint, entries])).to.have.deep.members([
      ['station', 3],
      ['find', 4],
      ['find2', 4],
    ])
    expect((await stash.status()).store.endpoints).to.equal(null)
  })

  it('refuses selectors that can mean nothing, each with what is wrong and what would be right', async () => {
    await using stash = await opened(memoryStore(), () => noon)
    for (const [selector, ...words] of [
      [{ provide: 'ebbline' }, '"provide"', 'provider, endpoint'],
      [{ provider: '' }, '"provider" of a selector is ""', 'a text'],
      [{ key: 7 }, '"key" of a selector is 7'],
      [{ status: '4x' }, '"4xx"'],
      [{ status: 99 }, 'is 99'],
      [{ state: 'old' }, 'fresh, stale or invalidated'],
      [{ olderThan: '5' }, 'a duration such as'],
      [{ newerThan: -1 }, 'is -1'],
      [{ label: '' }, '"label" of a selector is ""'],
      [{ arguments: 'v-201' }, '"arguments" of a selector is "v-201": give a list'],
      [{ caller: 'somebody' }, 'the digest that stands in keys'],
      [null, 'give an object'],
    ] as unknown as [never, ...string[]][]) {
      for (const work of [() => stash.purge(selector), () => stash.invalidate(selector), async () => void stash.entries(selector)]) {
        const error = await work().then(
          () => undefined,
          (caught: unknown) => caught,
        )
        expect(error, JSON.stringify(selector)).to.have.property('code', 'USAGE')
        for (const word of words) expect((error as Error).message).to.include(word)
      }
    }
    for (const change of ['invalidate', 'purge'] as const) {
      const error = await stash[change]({}).catch((caught: Error) => caught)
      expect((error as Error).message)
        .to.include('every stored answer')
        .and.to.include('everything: true')
    }
  })
})

/** Real time for what waits, whatever the clock says. */
function setTimeoutLater(ms: number, run: () => void, keepsAlive?: boolean): () => void {
  const timer = setTimeout(run, ms)
  if (!keepsAlive) timer.unref()
  return () => clearTimeout(timer)
}
