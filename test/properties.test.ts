import { expect } from 'chai'
import fc from 'fast-check'
import { type Clock, type EndpointOptions, openStash, type StashConfig } from 'stashen'
import { compileCredentials } from '../src/core/rules/credentials.js'
import { compileKeying } from '../src/core/rules/keying.js'
import { requestKey } from '../src/core/rules/request-key.js'
import { RandomRequests } from './support/random-requests.js'
import { scaled, seed } from './support/scale.js'

const base = 'https://harbour.example'

/** Ways of keeping answers under which nothing may be mixed up. */
const rules: Omit<EndpointOptions, 'request'>[] = [
  { freshFor: '1 min', staleIfError: '1 hour', staleWhileRevalidate: '1 min' },
  { trust: 'upstream' },
  { trust: 'shorter', freshFor: '1 min', jitter: 0.5 },
  { freshFor: '1 min', sliding: { upTo: '10 min' } },
]

interface Step {
  readonly method: 'GET' | 'HEAD' | 'POST'
  readonly path: string
  readonly query: readonly string[]
  readonly headers: Record<string, string>
  readonly question: number
  readonly waitMs: number
  readonly upstream: 'well' | 'failing' | 'gone'
}

/** Mostly none, so that requests often differ in one thing only. */
const maybe = (values: readonly string[]) =>
  fc.oneof({ weight: 3, arbitrary: fc.constant(undefined) }, { weight: 1, arbitrary: fc.constantFrom(...values) })

const step: fc.Arbitrary<Step> = fc
  .record({
    method: fc.constantFrom('GET' as const, 'GET' as const, 'HEAD' as const, 'POST' as const),
    path: fc.constantFrom('/a', '/a', '/a', '/b'),
    query: fc.constantFrom([], [], ['x=1'], ['x=2'], ['utm=1'], ['x=1', 'utm=2'], ['x=1', 'x=2'], ['key=hush-1'], ['key=hush-2']),
    headers: fc.record({
      authorization: maybe(['one', 'two']),
      cookie: maybe(['crew=1', 'crew=2']),
      'x-tenant': maybe(['kelp', 'skerry']),
      'accept-language': maybe(['no', 'de']),
      'cache-control': maybe(['no-cache', 'max-age=10', 'max-stale', 'only-if-cached', 'no-store']),
      range: maybe(['bytes=0-3']),
    }),
    question: fc.nat(2),
    waitMs: fc.constantFrom(0, 0, 20_000, 70_000),
    upstream: fc.constantFrom('well' as const, 'well' as const, 'well' as const, 'failing' as const, 'gone' as const),
  })
  .map(({ headers, ...others }) => ({
    ...others,
    headers: Object.fromEntries(Object.entries(headers).filter((field): field is [string, string] => field[1] !== undefined)),
  }))

/** All that an answer may depend on, as the upstream of these tests makes it: a text that stands in every answer. */
function identity(method: string, url: URL, header: (name: string) => string | null, body: string): string {
  url.searchParams.delete('utm') // which No-Vary-Search says does not matter
  const query = [...url.searchParams].sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0))
  const fields = ['authorization', 'cookie', 'x-tenant', 'accept-language'].map((name) => header(name))
  return JSON.stringify([method === 'HEAD' ? 'GET' : method, url.pathname, query, fields, body])
}

function still(now: () => number): Clock {
  return { now, ticks: now, later: () => () => {} }
}

/** A text that repeats no credential. */
const hexOf = (text: string) => Buffer.from(text).toString('hex')

describe('whatever happens', () => {
  it('nobody gets an answer that was made for another request or another caller (property)', async () => {
    await fc.assert(
      fc.asyncProperty(fc.constantFrom(...rules), fc.array(step, { minLength: 5, maxLength: 40 }), async (rule, steps) => {
        let now = Date.parse('2026-06-30T12:00:00Z')
        let upstream: Step['upstream'] = 'well'
        const fetch: StashConfig['fetch'] = async (input, init) => {
          if (upstream === 'gone') throw new TypeError('fetch failed')
          const request = new Request(input, init)
          const asked = identity(request.method, new URL(request.url), (name) => request.headers.get(name), await request.text())
          const head = { 'x-for': hexOf(asked), vary: 'Accept-Language', 'cache-control': 'max-age=30, stale-if-error=60' }
          const body = request.method === 'HEAD' ? null : asked
          const etag = `"${hexOf(asked)}"`
          if (upstream === 'failing') return new Response(body, { status: 503, headers: head })
          if (request.headers.get('if-none-match') === etag) return new Response(null, { status: 304, headers: { ...head, etag } })
          return new Response(body, { headers: { ...head, etag, 'no-vary-search': 'params=("utm")' } })
        }
        const per: EndpointOptions['per'] = ({ header }) => header('x-tenant') ?? 'none'
        await using stash = await openStash({
          ...{ fetch, clock: still(() => now), warn: () => {} },
          providers: {
            harbour: {
              baseUrl: base,
              secretQuery: ['key'],
              endpoints: {
                get: { request: 'GET /*', per, ...rule } as EndpointOptions,
                post: { request: 'POST /*', safe: true, per, ...rule } as EndpointOptions,
              },
            },
          },
        })
        for (const [i, first] of steps.entries()) {
          now += first.waitMs
          upstream = first.upstream
          const otherLanguage: Step = { ...first, headers: { ...first.headers, 'accept-language': 'fr' } }
          const atOnce = [first, first, otherLanguage, steps[i + 1] ?? first, steps[i + 2] ?? first]
          await Promise.all(
            atOnce.map(async ({ method, path, query, headers, question }) => {
              const url = `${base}${path}?${query.join('&')}`
              const body = method === 'POST' ? `question ${question}` : undefined
              const own = identity(method, new URL(url), (name) => headers[name] ?? null, body ?? '')
              const init = { method, headers, ...(body !== undefined && { body }) }
              const response = await stash.fetch(url, init).catch(() => undefined)
              if (!response || response.status === 504) return
              expect(response.headers.get('x-for')).to.equal(hexOf(own))
              const text = await response.text()
              if (method !== 'HEAD') expect(text).to.equal(response.status === 206 ? own.slice(0, 4) : own)
            }),
          )
        }
      }),
      { numRuns: scaled(15) },
    )
  })

  it('no two requests of many pairs share a key that a server could tell apart (property)', () => {
    const provider = { credentials: compileCredentials({}), caller: undefined }
    const keying = compileKeying({ provider: 'ebbline', name: 'tides' }, {})
    const requests = new RandomRequests(seed)
    const pairs = scaled(5_000, 10_000)
    let alike = 0
    for (let i = 0; i < pairs; i++) {
      const [one, other] = requests.pair()
      if (requestKey(provider, keying, one.request) !== requestKey(provider, keying, other.request)) continue
      if (one.sense !== other.sense) expect.fail(`one key, with SEED=${seed}, for\n${one.text}\n${other.text}`)
      alike++
    }
    expect(alike, 'pairs of the same').to.be.above(pairs / 10)
  })

  it('no jump of the clock makes an entry fresh for longer than its lifetime counted by that clock (property)', async () => {
    const jump = fc.integer({ min: -7_200_000, max: 7_200_000 })
    const near = fc.integer({ min: -8_000, max: 70_000 })
    await fc.assert(
      fc.asyncProperty(fc.boolean(), fc.array(fc.oneof(jump, near), { maxLength: 60 }), async (trusting, jumps) => {
        let now = Date.parse('2026-06-30T12:00:00Z')
        let calls = 0
        const fetch = async () => new Response(String(++calls), { headers: { 'cache-control': 'max-age=60' } })
        const rule = trusting ? { trust: 'upstream' as const } : { freshFor: '1 min' }
        await using stash = await openStash({
          ...{ fetch, clock: still(() => now) },
          providers: { harbour: { baseUrl: base, endpoints: { get: { request: 'GET /*', ...rule } } } },
        })
        let storedAt = Number.NEGATIVE_INFINITY
        for (const ms of [0, ...jumps]) {
          now += ms
          const before = calls
          await (await stash.fetch(`${base}/a`)).text()
          const reused = calls === before
          expect(reused, `${now - storedAt} ms after it was stored`).to.equal(now - storedAt < 60_000 && now - storedAt > -5_000)
          if (!reused) storedAt = now
        }
      }),
      { numRuns: scaled(20) },
    )
  })

  it('a key made of a normalised URL is that of the URL, and writing it otherwise does not change it (property)', async () => {
    await using stash = await openStash({
      providers: { harbour: { baseUrl: base, endpoints: { get: { request: 'GET /*', freshFor: '1 ms' } } } },
    })
    const piece = fc.stringMatching(/^([\w.~!$'()*;:@ø-]|%[0-9A-Fa-f]{2}){1,6}$/)
    const name = fc.constantFrom('a', 'b~', 'c%2A', '%C3%B8', '%7')
    const parameters = fc.uniqueArray(fc.tuple(name, piece), { maxLength: 4, selector: ([first]) => first })
    const url = fc
      .tuple(fc.array(piece, { minLength: 1, maxLength: 3 }), parameters)
      .map(([path, query]) => ({ path: path.join('/'), query: query.map((pair) => pair.join('=')) }))
    await fc.assert(
      fc.asyncProperty(url, fc.nat(), async ({ path, query }, turn) => {
        const key = async (text: string) => (await stash.explain(text)).key
        const first = await key(`${base}/${path}?${query.join('&')}`)
        if (first === null) return // dot segments alone lead above every endpoint
        expect(await key(first.split(' ')[1] as string), 'idempotent').to.equal(first)
        const turned = [...query.slice(turn % 4), ...query.slice(0, turn % 4)]
        expect(await key(`HTTPS://HARBOUR.example:443/./${path}?${turned.join('&')}#top`)).to.equal(first)
      }),
      { numRuns: scaled(50) },
    )
  })
})
