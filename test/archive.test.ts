import { createRequire } from 'node:module'
import { Ajv } from 'ajv'
import { expect } from 'chai'
import * as fc from 'fast-check'
import { type Entry, memoryStore, openStash, type Stash, type StashConfig, type Store } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { sqliteStore } from 'stashen/sqlite'
import { temporaryFolder } from './support/files.js'
import { scaled } from './support/scale.js'

const require = createRequire(import.meta.url)
const tides = 'https://tides.ebbline.example/v2'
const now = Date.UTC(2026, 5, 30, 10)
const secret = 'sk-77e1c0b4d9'

const providers: StashConfig['providers'] = {
  ebbline: {
    baseUrl: tides,
    plan: { currency: 'EUR', perCall: '0.004' },
    endpoints: {
      station: {
        request: 'GET /stations/{id}',
        freshFor: '1 hour',
        staleIfError: '1 day',
        labels: ['station {id}'],
        freshForStatus: { 404: '1 min' },
      },
      raw: { request: 'GET /raw/{id}', freshFor: '1 hour', shared: true },
      search: { request: 'POST /search', safe: true, freshFor: '1 hour' },
      write: { request: 'PUT /stations/{id}' },
    },
  },
}

/** The schema of HTTP Archive 1.2. */
function assertValid(har: unknown): void {
  const ajv = new Ajv({ strict: false, validateFormats: false })
  ajv.addMetaSchema(require('ajv/dist/refs/json-schema-draft-06.json'))
  const schemas = require('har-schema') as Record<string, { $id: string }>
  for (const schema of Object.values(schemas)) ajv.addSchema(schema)
  const isValid = ajv.validate(schemas.har?.$id as string, har)
  expect(ajv.errorsText(), 'by its schema').to.equal('No errors')
  expect(isValid).to.equal(true)
}

async function exported(stash: Stash, ...args: Parameters<Stash['export']>): Promise<string> {
  let text = ''
  for await (const piece of stash.export(...args)) text += piece
  return text
}

/** Everything of a store but what was used last. */
async function all({ entries }: Store): Promise<Entry[]> {
  const { entries: found } = await entries.list({ all: true }, { most: 1_000 })
  const whole = await Promise.all(found.map(({ key }) => entries.get(key)))
  return whole.map((entry) => ({ ...(entry as Entry), memo: undefined, body: new Uint8Array(entry?.body ?? []) }))
}

describe('archives', () => {
  const file = temporaryFolder()
  let files = 0
  let calls = 0
  const clock = Object.assign(new FastClock(now), {
    later(ms: number, run: () => void) {
      const timer = setTimeout(run, ms).unref() // what is due later is not done at once: it would be due again and again
      if (ms > 0) return () => clearTimeout(timer)
      clearTimeout(timer)
      setImmediate(run)
      return () => {}
    },
  })

  async function upstream(input: string | URL | Request, init?: RequestInit): Promise<Response> {
    calls++
    const request = new Request(input, init)
    const { pathname } = new URL(request.url)
    if (pathname.includes('/raw/')) return new Response(Uint8Array.from({ length: 300 }, (_, i) => (i * 7) % 256))
    const language = request.headers.get('x-say')
    return Response.json(
      { name: 'Kelpmouth ø', pathname, language, asked: await request.text() },
      {
        status: pathname.endsWith('absent') ? 404 : 200,
        headers: { vary: 'x-say', etag: '"1"', 'x-api-token': secret },
      },
    )
  }

  const open = (store: Store) => openStash({ store, clock, providers, fetch: upstream, warn() {} })
  const requests: [path: string, init?: RequestInit][] = [
    ['/stations/1'],
    ['/stations/1', { headers: { 'x-say': 'no' } }],
    ['/stations/1', { headers: { authorization: `Bearer ${secret}` } }],
    [`/stations/2?api_key=${secret}`],
    ['/stations/absent'],
    ['/raw/1'],
    ['/search', { method: 'POST', body: '{"q":"ø"}', headers: { 'content-type': 'application/json' } }],
  ]
  const ask = async (stash: Stash, [path, init]: (typeof requests)[number]) => {
    const response = await stash.fetch(tides + path, init)
    return [stash.outcomeOf(response)?.how, new Uint8Array(await response.arrayBuffer())] as const
  }

  for (const [name, make] of [
    ['memory', () => memoryStore()],
    ['SQLite', () => sqliteStore(file(`archive-${files++}.db`))],
  ] as const)
    it(`of a stash on ${name} are HAR 1.2 by its schema, hold no credential, and seed another stash with exactly what there was`, async () => {
      calls = 0
      const [from, to] = [make(), make()]
      const stash = await open(from)
      const operations = (of: Stash) => [
        of.operation('skerrylight.vessel', async (id: string) => ({ id, names: ['Thrift'], calls: ++calls }), { freshFor: '1 day' }),
        of.operation('skerrylight.since', async (id: string) => new Set([id, new Date(now + ++calls)]), { freshFor: '1 day' }),
      ]
      const bodies = [] as unknown[]
      for (const request of requests) bodies.push((await ask(stash, request))[1])
      const values = [] as unknown[]
      for (const operation of operations(stash)) {
        await operation('v-203')
        values.push(await operation('v-203')) // by when it is stored
      }
      await stash.invalidate({ key: '*stations/2*' })
      const text = await exported(stash)
      const har = JSON.parse(text)
      assertValid(har)
      expect(text).to.include('"amount":"0.004"')
      for (const { request } of har.log.entries) expect(URL.canParse(request.url), request.url).to.equal(true)
      expect(har.log.entries).to.have.length(9)
      expect(text).to.not.include(secret)
      const made = calls
      const seeded = await open(to)
      expect(await seeded.import(text)).to.eql({ stored: 9, notStored: {} })
      expect(await all(to)).to.eql(await all(from))
      for (const [i, request] of requests.entries()) {
        if (i === 3) continue // which was invalidated
        expect(await ask(seeded, request), JSON.stringify(request)).to.eql(['hit', bodies[i]])
      }
      for (const [i, operation] of operations(seeded).entries()) expect(await operation('v-203')).to.eql(values[i])
      expect(calls, 'nothing was called').to.equal(made)
      expect(await exported(seeded)).to.equal(text)
      expect(JSON.parse(await exported(seeded, { label: 'station absent' })).log.entries).to.have.length(1)
      const older = har.log.entries.map((entry: { _stashen: object }) => ({ ...entry, _stashen: { ...entry._stashen, storedAt: now - 1 } }))
      expect(await seeded.import({ log: { ...har.log, entries: older } }), 'what is stored is newer').to.eql({
        stored: 0,
        notStored: { 'out-of-date': 9 },
      })
      await Promise.all([stash.close(), seeded.close()])
    })

  it('give back any bytes', () =>
    fc.assert(
      fc.asyncProperty(
        fc.array(fc.uint8Array({ maxLength: 300 }), { minLength: 1, maxLength: 5 }),
        fc.boolean(),
        async (bodies, isJson) => {
          const [from, to] = [memoryStore(), memoryStore()]
          const stash = await open(from)
          const headers = { 'content-type': isJson ? 'text/plain' : 'image/png' }
          for (const [i, body] of bodies.entries()) await stash.put(`${tides}/raw/${i}`, new Response(new Uint8Array(body), { headers }))
          const seeded = await open(to)
          await seeded.import(JSON.parse(await exported(stash)))
          expect(await all(to)).to.eql(await all(from))
          expect(await all(to)).to.have.length(bodies.length)
        },
      ),
      { numRuns: scaled(4) },
    ))

  it('of a browser seed a stash by its rules, as of when each answer came; what is newer stays, what is none is counted', async () => {
    const content = { size: 4, mimeType: 'text/plain', text: 'tide' }
    const captured = (minutesAgo: number, url: string, more: { request?: object; response?: object } = {}) => ({
      startedDateTime: new Date(now - minutesAgo * 60_000 - 250).toISOString(),
      ...{ time: 250, cache: {}, timings: { send: 1, wait: 200, receive: 49 }, _priority: 'High' },
      request: {
        ...{ method: 'GET', url, httpVersion: 'h2', cookies: [], queryString: [], headersSize: -1, bodySize: 0 },
        headers: [
          { name: ':authority', value: 'tides.ebbline.example' },
          { name: 'accept-language', value: 'no' },
        ],
        ...more.request,
      },
      response: {
        ...{ status: 200, statusText: '', httpVersion: 'h2', cookies: [], redirectURL: '', headersSize: -1, bodySize: 4 },
        ...{
          headers: [
            { name: ':status', value: '200' },
            { name: 'content-type', value: 'text/plain' },
          ],
          content,
        },
        ...more.response,
      },
    })
    const store = memoryStore()
    const stash = await open(store)
    const language = { headers: { 'accept-language': 'no' } }
    await stash.put(new Request(`${tides}/stations/newer`, language), new Response('of now'))
    const entries = [
      captured(10, `${tides}/stations/1`),
      captured(90, `${tides}/stations/old`),
      captured(-5, `${tides}/stations/to-come`),
      captured(10, `${tides}/stations/newer`),
      captured(10, `${tides}/raw/1`, { response: { content: { ...content, text: 'AAH/', encoding: 'base64' } } }),
      captured(10, `${tides}/raw/2`, { response: { content: { size: 90_000_000, mimeType: 'video/mp4' } } }),
      captured(10, `${tides}/raw/3`, { response: { content: { ...content, text: '~~~', encoding: 'base64' } } }),
      captured(10, `${tides}/raw/4`, { response: { status: 0, content: { size: 0, mimeType: '' } } }),
      captured(10, `${tides}/raw/5`, { response: { status: 304, content: { size: 0, mimeType: '' } } }),
      captured(10, `${tides}/raw/6`, { response: { headers: [{ name: 'no name', value: '1' }] } }),
      captured(10, `${tides}/search`, { request: { method: 'POST', postData: { mimeType: 'text/plain', text: 'q' } } }),
      captured(10, `${tides}/stations/1`, { request: { method: 'PUT', postData: { mimeType: 'text/plain', text: 'q' } } }),
      captured(10, `${tides}/stations/1`, { request: { method: 'TRACE' } }),
      captured(10, 'https://elsewhere.example/'),
    ]
    const har = { log: { version: '1.2', creator: { name: 'a browser', version: '1' }, pages: [], entries } }
    assertValid(har)
    const before = calls
    expect(await stash.import(`\ufeff${JSON.stringify(har)}`)).to.eql({
      stored: 5,
      notStored: { 'out-of-date': 1, 'no-body': 2, 'not-http': 3, partial: 1, 'not-reusable': 1, 'no-endpoint': 1 },
    })
    const told: unknown[] = []
    for await (const { key, ageMs, freshForMs } of stash.entries()) told.push([key.split(' ')[1]?.slice(tides.length), ageMs, freshForMs])
    expect(told).to.have.deep.members([
      ['/stations/1', 600_000, 3_000_000],
      ['/stations/old', 5_400_000, 0],
      ['/stations/to-come', 0, 3_600_000],
      ['/stations/newer', 0, 3_600_000],
      ['/raw/1', 600_000, 3_000_000],
      ['/search', 600_000, 3_000_000],
    ])
    expect((await ask(stash, ['/stations/1', language]))[0]).to.equal('hit')
    expect((await ask(stash, ['/stations/newer', language]))[1]).to.eql(new TextEncoder().encode('of now'))
    expect(await ask(stash, ['/raw/1', language])).to.eql(['hit', new Uint8Array([0, 1, 255])])
    expect((await ask(stash, ['/stations/old', language]))[0], 'which is fresh no more').to.equal('forwarded')
    expect(calls - before).to.equal(1)
    await stash.close()
  })

  it('that are none are refused with what is wrong, and nothing of them is stored', async () => {
    const store = memoryStore()
    const stash = await open(store)
    await stash.put(`${tides}/raw/1`, new Response('1'))
    const har = JSON.parse(await exported(stash))
    await stash.purge({}, { everything: true })
    const [entry] = har.log.entries
    const withEntry = (more: object) => ({ log: { ...har.log, entries: [entry, { ...entry, ...more }] } })
    for (const [given, says] of [
      ['{', 'it is not JSON'],
      [undefined, '(HAR 1.2): it is missing, which has to be object'],
      [null, 'HAR 1.2'],
      [{}, '"log" is missing, which has to be object'],
      [{ log: { entries: {} } }, '"log.entries" is {}, not array'],
      [withEntry({ startedDateTime: 'soon' }), '"log.entries[1].startedDateTime" is not a time'],
      [withEntry({ response: { ...entry.response, status: '200' } }), '"log.entries[1].response.status" is "200", not number'],
      [withEntry({ request: { ...entry.request, headers: [{ name: 1 }] } }), '"log.entries[1].request.headers[0].name" is 1, not string'],
      [withEntry({ _stashen: { ...entry._stashen, freshUntil: null } }), '"log.entries[1]._stashen.freshUntil" is null, not number'],
      [withEntry({ _stashen: { ...entry._stashen, labels: [1] } }), '"log.entries[1]._stashen.labels[0]" is 1, not string'],
      [{ log: { ...har.log, _stashen: { signposts: [{ ...entry._stashen, head: '{}' }] } } }, '"log._stashen.signposts[0].head" is '],
    ] as const) {
      const error = await stash.import(given).catch((thrown: Error) => thrown)
      expect(error, JSON.stringify(given)).to.include({ code: 'USAGE' })
      expect((error as Error).message).to.include(says)
      expect(await all(store)).to.eql([])
    }
    for (const at of ['soon', now + 1, Number.NaN])
      expect((await stash.put(`${tides}/raw/1`, new Response('1'), { at }).catch((error: Error) => error)) as Error).to.include({
        code: 'USAGE',
      })
    await stash.close()
  })

  it('are imported in pieces: others come between, whoever looks on ends nothing, and closing ends it with what is stored by then', async () => {
    await using source = await openStash({ providers, fetch: async () => new Response('high') })
    for (let i = 0; i < 400; i++) await (await source.fetch(`${tides}/raw/${i}`)).text()
    const har = await exported(source)
    const store = sqliteStore(file('pieces.db'))
    const stash = await openStash({ providers, store })
    for (const [options, says] of [
      [{ onProgress: 5 }, '"onProgress" of import is 5: give a function'],
      [{ onprogress() {} }, 'import has no option "onprogress": it has onProgress'],
    ] as const) {
      expect(await stash.import(har, options as object).catch(String)).to.include(says)
      expect((await stash.status()).store.entries, 'nothing is stored').to.equal(0)
    }
    const seen: number[] = []
    const onProgress = ({ done, of }: { done: number; of: number }) => {
      seen.push(done / of)
      throw new Error('not yours')
    }
    expect(await stash.import(har, { onProgress })).to.eql({ stored: 400, notStored: {} })
    expect([seen.length, seen.at(-1)]).to.eql([400, 1])
    await stash.purge({}, { everything: true })
    const closeAt = ({ done }: { done: number }) => void (done === 100 && stash.close())
    const error = await stash.import(har, { onProgress: closeAt }).catch((thrown: unknown) => thrown)
    expect(error).to.include({ code: 'STASH_CLOSED' })
    await stash.close()
    await using again = await openStash({ providers, store: sqliteStore(file('pieces.db')) })
    expect((await again.status()).store.entries).to.equal(100)
  })
})
