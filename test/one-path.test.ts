import type { IncomingMessage, ServerResponse } from 'node:http'
import { expect } from 'chai'
import { type EndpointOptions, isStashenError, memoryStore, openStash, type ProviderOptions, type Stash } from 'stashen'
import { eventually, type RealUpstream, realUpstream } from './support/real-upstream.js'
import { scaled } from './support/scale.js'

/** Kinds of calls that take the same path: under a rule, under a rule that stores nothing, under none, and unsafe. */
const kinds: [kind: string, path: string, method: string, endpoint: string][] = [
  ['that a rule covers', '/tides/1', 'GET', 'tides'],
  ['whose rule stores nothing', '/notes/1', 'GET', 'notes'],
  ['that no rule covers', '/other/1', 'GET', '(unmatched)'],
  ['that change something', '/tides/1', 'PUT', '(unmatched)'],
]

const endpoints = {
  tides: { request: 'GET /tides/{id}', freshFor: '1 min' },
  notes: { request: 'GET /notes/{id}' },
} satisfies Record<string, EndpointOptions>

const provider: Omit<ProviderOptions, 'baseUrl'> = { endpoints, limits: [{ atOnce: 1, reserved: 0 }] }

/** Sends a head and a first piece, and the rest when it is told. */
function inPieces(now: RealUpstream, { status = 200, headers = {} }: { status?: number; headers?: Record<string, string> } = {}) {
  const open: ServerResponse[] = []
  now.answer = (_request, response) => {
    response.writeHead(status, headers)
    response.write('first;')
    open.push(response)
  }
  return { end: () => open.splice(0).map((response) => response.end('last')), hungUp: () => open.map((response) => response.destroyed) }
}

const codeOf = (error: unknown) => (isStashenError(error) ? error.code : (error as Error).name)
const left = async (stash: Stash) => (await stash.status()).providers[0]?.limits[0]?.left
const totals = async (stash: Stash) => (await stash.report()).totals.with

describe('every call', () => {
  for (const [kind, path, method, endpoint] of kinds) {
    describe(kind, () => {
      it('holds its place until its body ends, is timed, and has an outcome and an event', () =>
        realUpstream(provider, async (now) => {
          const { stash, base, calls, upstream } = now
          const pieces = inPieces(now)
          const response = await stash.fetch(base + path, { method })
          expect(await left(stash), 'its place is taken').to.equal(0)
          const { fetch } = stash.calling({ atLimit: 'refuse' })
          expect(await fetch(`${base}/other/2`).catch(codeOf)).to.equal('LIMIT_REACHED')
          expect([calls.length, upstream.length], 'the refused one is over').to.eql([1, 0])
          await new Promise((resolve) => setTimeout(resolve, 30))
          pieces.end()
          expect(await response.text()).to.equal('first;last')
          await eventually(async () => (await left(stash)) === 1)
          expect(stash.outcomeOf(response)).to.include({ provider: 'ebbline', endpoint, upstreamStatus: 200 })
          expect(calls[1]).to.deep.include({ provider: 'ebbline', endpoint, how: endpoint === 'tides' ? 'forwarded' : 'passed' })
          expect(upstream).to.have.length(1)
          expect(upstream[0]).to.include({ endpoint, how: 'answered', method, status: 200 })
          for (const { ms } of [...calls.slice(1), ...upstream]) expect(ms).to.be.at.least(25)
          expect(await totals(stash)).to.include({ asked: 2, upstream: 1, errored: 1, failed: 0 })
        }))

      it('that its caller abandons is counted as abandoned, not as failed, and gives its place back', () =>
        realUpstream({ ...provider, plan: { currency: 'EUR', perCall: '0.10', notBilled: ['failed'] } }, async (now) => {
          const { stash, base, calls, upstream } = now
          const leave: [how: string, leave: (response: Response, leaving: AbortController) => Promise<unknown>][] = [
            ['cancels the body', (response) => (response.body as ReadableStream).cancel()],
            ['aborts', async (_response, leaving) => leaving.abort()],
            [
              'breaks out of a loop',
              async (response) => {
                for await (const _ of response.body as unknown as AsyncIterable<Uint8Array>) break
              },
            ],
          ]
          for (const [i, [how, doLeave]] of leave.entries()) {
            const pieces = inPieces(now)
            const leaving = new AbortController()
            const response = await stash.fetch(base + path, { method, signal: leaving.signal })
            await doLeave(response, leaving)
            await eventually(() => upstream.length === i + 1)
            expect(upstream[i], how).to.include({ how: 'abandoned', status: 200 })
            expect(calls[i], how).to.include({ how: 'abandoned' })
            await eventually(() => pieces.hungUp().every(Boolean))
            expect(await left(stash), how).to.equal(1)
          }
          const money = [{ currency: 'EUR', amount: '0.3' }]
          expect(await totals(stash)).to.deep.include({
            asked: 3,
            upstream: 3,
            abandoned: 3,
            upstreamAbandoned: 3,
            errored: 0,
            failed: 0,
            money,
          })
          expect((await stash.status()).providers[0]).to.deep.include({ holdOffs: [], lastError: null })
        }))

      for (const status of [503, 429]) {
        it(`is a failure as soon as the head of a ${status} has arrived, whoever reads the body`, () =>
          realUpstream({ ...provider, limits: [], defaults: { holdOff: '1 min', maxWait: 0 } }, async (now) => {
            const { stash, base } = now
            const pieces = inPieces(now, { status, headers: status === 429 ? { 'retry-after': '60' } : {} })
            const response = await stash.fetch(base + path, { method })
            expect(response.status).to.equal(status)
            expect(await totals(stash)).to.include(status === 429 ? { upstream: 1, refused: 1 } : { upstream: 1, failed: 1 })
            // the same path with another identity, so that it does not join the one under way
            const again = await stash.fetch(`${base}${path}0`, { method }).then((other) => other.status, codeOf)
            const holdsOff = status === 429 || method === 'GET'
            if (holdsOff)
              expect(again).to.equal(status === 429 ? 'LIMIT_REACHED' : endpoint === 'tides' || endpoint === 'notes' ? 'HELD_OFF' : 503)
            pieces.end()
            await response.text()
          }))
      }

      it('is refused while offline, with an outcome, an event and a count', () =>
        realUpstream(provider, async ({ open, base, received }) => {
          const offline = await open(provider, { mode: 'offline' })
          const error = await offline.fetch(base + path, { method }).catch((thrown: unknown) => thrown)
          expect(codeOf(error)).to.equal('OFFLINE')
          expect(error).to.include({ provider: 'ebbline', endpoint })
          expect(offline.outcomeOf(error)).to.include({ how: 'failed', reason: 'offline', endpoint })
          expect(offline.calls.map(({ how, reason }) => [how, reason])).to.eql([['failed', 'offline']])
          expect(await totals(offline)).to.include({ asked: 1, upstream: 0, errored: 1 })
          expect(received).to.eql([])
        }))

      it('that fails, or that its caller leaves, has an outcome by its error', () =>
        realUpstream(provider, async (now) => {
          const { stash, base } = now
          now.answer = (_request, response) => void response.destroy()
          const error = await stash.fetch(base + path, { method }).catch((thrown: unknown) => thrown)
          expect(error).to.be.instanceOf(TypeError)
          expect(stash.outcomeOf(error)).to.include({ how: 'failed', endpoint })
          expect(await totals(stash)).to.include({ asked: 1, upstream: 1, failed: 1, errored: 1 })
          const leaving = new AbortController()
          now.answer = () => leaving.abort()
          await stash.forgive('ebbline')
          const gone = await stash.fetch(base + path, { method, signal: leaving.signal }).catch((thrown: unknown) => thrown)
          expect(gone).to.equal(leaving.signal.reason)
          expect(stash.outcomeOf(gone)).to.include({ how: 'abandoned', endpoint })
          expect(await totals(stash)).to.include({ asked: 2, upstream: 2, errored: 1, abandoned: 1 })
          expect(await left(stash)).to.equal(1)
        }))
    })
  }

  const boom = () => {
    throw new Error('boom')
  }
  const hostile: [what: string, endpoint: Partial<EndpointOptions>, headers: Record<string, string>][] = [
    ['a Vary value that is not a field name', {}, { vary: 'accept, (")' }],
    ['a function that says whether it is stored', { reuse: { exceptAnswer: boom } }, {}],
    ['a function that says how long it is fresh', { freshFor: boom }, {}],
    ['a function that counts units', { units: { tokens: boom } }, {}],
    ['a function that says whether it failed', { failsWhen: boom }, {}],
    ['fields that do not parse', {}, { ratelimit: '"x";r=(((', 'no-vary-search': 'params=((', 'cache-control': 'max-age="' }],
  ]
  for (const [what, endpoint, headers] of hostile) {
    it(`whose answer brings ${what} gives it to its caller, is counted and gives its place back`, () =>
      realUpstream(
        {
          ...provider,
          endpoints: { tides: { ...endpoints.tides, ...endpoint } as EndpointOptions },
          plan: { currency: 'EUR', perCall: '1', units: { tokens: { price: '1' } } },
        },
        async (now) => {
          const { stash, base, upstream } = now
          now.answer = (_request, response) => {
            response.writeHead(200, { 'content-type': 'application/json', ...headers })
            response.end('{"tide":1}')
          }
          for (let i = 1; i <= 2; i++) {
            const response = await stash.fetch(`${base}/tides/1`)
            expect(await response.json()).to.eql({ tide: 1 })
          }
          expect(upstream.length).to.be.within(1, 2)
          for (const { how } of upstream) expect(how).to.equal('answered')
          expect(await left(stash)).to.equal(1)
          expect((await totals(stash))?.upstream).to.equal(upstream.length)
          if (headers.vary) expect(upstream, 'it is not stored').to.have.length(2)
        },
      ))
  }

  it('of an operation whose value nests thousands deep, or has a getter that throws, gives it to its caller, unstored', async () => {
    await using stash = await openStash({ providers: { skerrylight: { limits: [{ atOnce: 1 }] } }, warn: () => {} })
    let deep: unknown = 1
    for (let i = 0; i < 200_000; i++) deep = [deep]
    const throwing = Object.defineProperty({}, 'x', { enumerable: true, get: boom })
    for (const [name, value] of Object.entries({ deep, throwing })) {
      const find = stash.operation(`skerrylight.${name}`, async () => value, { freshFor: '1 min' })
      const found = await find.withOutcome()
      expect(found.value).to.equal(value)
      expect(found.outcome).to.include({ how: 'forwarded', stored: false })
    }
    expect((await stash.status()).providers[0]?.limits[0]?.left).to.equal(1)
    expect(await totals(stash)).to.include({ asked: 2, upstream: 2, errored: 0 })
  })

  it('gives its answer to its caller while the store fails in any of its methods', async () => {
    const failing = [
      ...(['get', 'put', 'updateTimes', 'remove'] as const).map((method) => ['entries', method] as const),
      ...(['update', 'records'] as const).map((method) => ['records', method] as const),
    ]
    for (const [part, method] of failing) {
      const store = memoryStore()
      Object.assign(store[part], { [method]: boom })
      const play = async ({ stash, base }: RealUpstream) => {
        expect((await stash.fetch(`${base}/tides/1`)).status, method).to.equal(200)
      }
      await realUpstream(provider, play, { store })
    }
  })
})

describe('refusals', () => {
  const refuse: [what: string, more: Partial<ProviderOptions>, offline: boolean, status: number, code: string, retryAfter: boolean][] = [
    ['a limit', { limits: [{ calls: 1, per: 'hour', reserved: 0 }] }, false, 429, 'LIMIT_REACHED', true],
    ['a quota', { quota: { calls: 1, per: 'day' } }, false, 429, 'LIMIT_REACHED', true],
    ['a budget', { budgets: [{ calls: 1 }] }, false, 429, 'BUDGET_SPENT', true],
    ['a hold-off', { defaults: { holdOff: '1 min', maxWait: 0 } }, false, 503, 'HELD_OFF', true],
    ['being offline', {}, true, 504, 'OFFLINE', false],
  ]
  for (const [what, more, offline, status, code, retryAfter] of refuse) {
    it(`by ${what} are errors, or responses where that is wanted, by stash, provider, endpoint or call`, () =>
      realUpstream({}, async (now) => {
        const { open, base } = now
        if (code === 'HELD_OFF') now.answer = (_request, response) => void response.writeHead(500).end()
        const tides = (own: Partial<EndpointOptions>) => ({ tides: { ...endpoints.tides, ...own } as EndpointOptions })
        const its = { defaults: { maxWait: 0 }, ...more } as const
        const wishes: [where: string, provider: Partial<ProviderOptions>, refusals: 'throw' | 'respond', call?: 'throw' | 'respond'][] = [
          ['stash', { endpoints: tides({}) }, 'respond'],
          ['provider', { endpoints: tides({}), refusals: 'respond' }, 'throw'],
          ['endpoint', { endpoints: tides({ refusals: 'respond' }), refusals: 'throw' }, 'throw'],
          ['call', { endpoints: tides({ refusals: 'throw' }) }, 'throw', 'respond'],
        ]
        for (const [where, options, refusals, call] of wishes) {
          const stash = await open({ ...its, ...options }, { refusals, ...(offline && { mode: 'offline' }) })
          const { fetch } = call ? stash.calling({ refusals: call }) : stash
          if (!offline) await (await fetch(`${base}/tides/1`)).text()
          const response = await fetch(`${base}/tides/2`)
          expect(response.status, where).to.equal(status)
          expect(response.headers.get('content-type')).to.equal('application/problem+json')
          expect(response.headers.get('cache-status')).to.match(/^stashen; (fwd=uri-miss; )?detail=/)
          expect(response.headers.has('retry-after')).to.equal(retryAfter)
          const problem = (await response.json()) as Record<string, unknown>
          expect(problem).to.include({ status, code, provider: 'ebbline', endpoint: 'tides' })
          expect(stash.outcomeOf(response)).to.include({ how: 'refused', endpoint: 'tides' })
          expect(await totals(stash)).to.include({ asked: offline ? 1 : 2 })
          const thrown = await stash
            .calling({ refusals: 'throw' })
            .fetch(`${base}/tides/3`)
            .catch((error: unknown) => error)
          expect(codeOf(thrown)).to.equal(code)
        }
      }))
  }
})

describe('callers who wait for the same answer', () => {
  const common: [field: string, shared: boolean, headers: Record<string, string>, isShared: boolean][] = [
    ['max-age=60', false, {}, true],
    ['no-store', false, {}, false],
    ['no-cache', false, {}, false],
    ['max-age=0', false, {}, false],
    ['private, max-age=60', false, {}, true],
    ['private, max-age=60', true, {}, false],
    ['max-age=60', true, { authorization: 'Bearer x' }, false],
    ['public, max-age=60', true, { authorization: 'Bearer x' }, true],
  ]
  for (const [cacheControl, shared, headers, isShared] of common) {
    const whose = `${shared ? 'a shared' : 'a private'} endpoint${headers.authorization ? ' with Authorization' : ''}`
    it(`${isShared ? 'share it' : 'get one each, without waiting for each other,'} where the upstream of ${whose} says "${cacheControl}"`, () =>
      realUpstream({ endpoints: { tides: { request: 'GET /tides/{id}', trust: 'upstream', shared } } }, async (now) => {
        const { stash, base, received } = now
        let waiting: ServerResponse[] = []
        now.answer = (_request, response) => {
          response.setHeader('cache-control', cacheControl)
          waiting.push(response)
        }
        const ask = () => Promise.all([1, 2, 3, 4].map(async () => (await stash.fetch(`${base}/tides/1`, { headers })).text()))
        const first = ask()
        await eventually(() => received.length === 1)
        waiting.splice(0).map((response) => response.end('1'))
        if (!isShared) {
          await eventually(() => received.length === 4)
          waiting.splice(0).map((response) => response.end('2'))
        }
        expect((await first).sort()).to.eql(isShared ? ['1', '1', '1', '1'] : ['1', '2', '2', '2'])
        waiting = []
        if (isShared) return
        const later = ask()
        await eventually(() => received.length === 8) // all at once: none waits for another
        waiting.splice(0).map((response) => response.end('3'))
        await later
      }))
  }
})

describe('redirects', () => {
  it('are never asked about with a validator of another URL, and end storing where the upstream decides', () =>
    realUpstream(
      { endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 ms' }, said: { request: 'GET /said/{id}', trust: 'upstream' } } },
      async (now) => {
        const { stash, base, received } = now
        const asked: (string | undefined)[] = []
        let redirects = true
        now.answer = (request, response) => {
          asked.push(request.headers['if-none-match'])
          response.setHeader('etag', '"same"')
          response.setHeader('cache-control', 'max-age=60')
          const isTarget = request.url === '/target'
          if (redirects && !isTarget) return void response.writeHead(302, { location: '/target', 'cache-control': 'max-age=1' }).end()
          if (request.headers['if-none-match'] === '"same"') return void response.writeHead(304).end()
          response.end(isTarget ? 'target' : 'direct')
        }
        const get = async (path: string) => {
          await new Promise((resolve) => setTimeout(resolve, 5))
          return (await stash.fetch(base + path)).text()
        }
        expect(await get('/tides/1')).to.equal('target')
        redirects = false
        expect(await get('/tides/1'), 'whose validator was that of another URL').to.equal('direct')
        expect(asked.filter(Boolean)).to.eql([])
        expect(await get('/tides/1'), 'whose own validator is asked about').to.equal('direct')
        expect(asked.at(-1)).to.equal('"same"')
        redirects = true
        expect(await get('/tides/1'), 'a 304 of the target says nothing of this URL').to.equal('target')
        const before = received.length
        for (let i = 0; i < 2; i++) expect(await get('/said/1')).to.equal('target')
        expect(received.length - before, 'twice, with a hop each').to.equal(4)
      },
    ))
})

describe('requests', () => {
  it('keep their properties on their way upstream, and a string stays a string', async () => {
    const seen: [input: unknown, init: RequestInit & Record<string, unknown>][] = []
    const fetch = (async (input: unknown, init: RequestInit) => {
      seen.push([input, init as RequestInit & Record<string, unknown>])
      return new Response('{}')
    }) as typeof globalThis.fetch
    const base = 'https://ebbline.example'
    const search = { request: 'POST /search', safe: true, freshFor: '1 min' } as const
    await using stash = await openStash({ fetch, providers: { ebbline: { baseUrl: base, endpoints: { ...endpoints, search } } } })
    const dispatcher = { dispatch() {} }
    for (const path of ['/tides/1', '/search', '/other']) {
      const body = path === '/search' ? '{"q":1}' : undefined
      const init = {
        method: body ? 'POST' : 'GET',
        ...(body && { body }),
        redirect: 'manual',
        keepalive: true,
        integrity: '',
        dispatcher,
        mine: 1,
      }
      await stash.fetch(base + path, init as never)
      const [, sent] = seen.at(-1) as (typeof seen)[number]
      expect(sent, path).to.include({ redirect: 'manual', keepalive: true, dispatcher, mine: 1, ...(body && { body }) })
      await stash.fetch(new Request(`${base}${path}`, { ...init, redirect: 'error' } as never))
      const [input, own] = seen.at(-1) as (typeof seen)[number]
      const made = new Request(input as Request, own as RequestInit)
      expect([made.url, made.method, made.redirect, made.keepalive], path).to.eql([`${base}${path}`, init.method, 'error', true])
      if (body) expect(await made.text()).to.equal(body)
    }
    const foreign = {
      url: `${base}/tides/9`,
      method: 'GET',
      headers: new Map([['x-a', 'b']]),
      body: null,
      arrayBuffer: async () => new ArrayBuffer(0),
    }
    expect((await stash.fetch(foreign as unknown as Request)).status, 'a Request of another copy of the classes').to.equal(200)
    expect(String(seen.at(-1)?.[0])).to.equal(`${base}/tides/9`)
    expect(new Headers(seen.at(-1)?.[1].headers).get('x-a')).to.equal('b')
  })

  it('are followed through 307 and 308 with their body, and forms are the same whatever their boundary', () =>
    realUpstream({ endpoints: { search: { request: 'POST /search/{how}', safe: true, freshFor: '1 min' } } }, async (now) => {
      const { stash, base, received } = now
      now.answer = (request, response) => {
        const status = Number(request.url?.split('/').at(-1))
        if (status === 307 || status === 308) return void response.writeHead(status, { location: '/target' }).end()
        request.pipe(response)
      }
      for (const status of [307, 308]) {
        const response = await stash.fetch(`${base}/search/${status}`, { method: 'POST', body: 'where' })
        expect(await response.text()).to.equal('where')
      }
      const form = (name: string) => {
        const data = new FormData()
        data.set('name', name)
        data.set('file', new Blob(['tide\r\n--table']), 'tides.txt')
        return stash.fetch(`${base}/search/form`, { method: 'POST', body: data }).then((response) => response.text())
      }
      const before = received.length
      await form('Marram')
      await form('Marram')
      expect(received.length - before, 'with another boundary each time').to.equal(1)
      await form('Dunlin')
      expect(received.length - before).to.equal(2)
    }))

  it('never get an invalidated entry before the upstream has confirmed it, whatever they ask', () =>
    realUpstream({ endpoints: { tides: { ...endpoints.tides, staleIfError: '1 h', staleWhileRevalidate: '1 h' } } }, async (now) => {
      const { stash, base, received } = now
      const asks: [string, RequestInit & { cache?: string }][] = [
        ['force-cache', { cache: 'force-cache' } as RequestInit],
        ['max-stale', { headers: { 'cache-control': 'max-stale' } }],
        ['stale-if-error', { headers: { 'cache-control': 'stale-if-error=3600' } }],
        ['nothing', {}],
      ]
      for (const [name, init] of asks) {
        now.answer = (_request, response) => void response.end('tide')
        await (await stash.fetch(`${base}/tides/${name}`)).text()
        await stash.fetch(`${base}/tides/${name}`, { method: 'PUT' })
        const before = received.length
        now.answer = (_request, response) => void response.writeHead(500).end('down')
        const response = await stash.calling({}).fetch(`${base}/tides/${name}`, init)
        expect([response.status, received.length - before], name).to.eql([500, 1])
        await stash.forgive('ebbline')
      }
      await stash.fetch(`${base}/tides/only`).then((response) => response.text())
      now.answer = (_request, response) => void response.end('tide')
      await stash.fetch(`${base}/tides/only`, { method: 'PUT' })
      const only = { cache: 'only-if-cached', mode: 'same-origin' } as RequestInit
      expect(await stash.fetch(`${base}/tides/only`, only).catch(codeOf)).to.equal('TypeError')
    }))

  it('get what Cache-Status the upstream gave, before ours, also from store', () =>
    realUpstream({ endpoints }, async (now) => {
      now.answer = (_request, response) => void response.setHeader('cache-status', 'Edge; hit; ttl=9').end('tide')
      const fields: (string | null)[] = []
      for (let i = 0; i < 2; i++) {
        const response = await now.stash.fetch(`${now.base}/tides/1`)
        await response.text()
        fields.push(response.headers.get('cache-status'))
      }
      expect(fields[0]).to.match(/^Edge; hit; ttl=9, stashen; fwd=uri-miss;/)
      expect(fields[1]).to.match(/^Edge; hit; ttl=9, stashen; hit;/)
    }))

  it('get statuses and reason phrases as from fetch, which break no later call', () =>
    realUpstream({ endpoints: { tides: { ...endpoints.tides, holdOff: 0 } } }, async (now) => {
      const heads: [status: number, phrase: string][] = [
        [200, 'Très bien'],
        [299, ''],
        [600, 'Beyond'],
        [999, 'Beyond'],
        [204, 'Nothing'],
        [418, 'Teapot \u0080'],
      ]
      for (const path of ['tides', 'other']) {
        for (const [status, phrase] of heads) {
          now.answer = (_request, response) => void response.writeHead(status, phrase).end(status === 204 ? undefined : 'tide')
          const url = `${now.base}/${path}/${status}`
          const plain = await fetch(url)
          for (let i = 0; i < 2; i++) {
            const response = await now.stash.fetch(url)
            for (const one of [response.clone(), response]) {
              expect([one.status, one.statusText, one.ok], url).to.eql([plain.status, plain.statusText, plain.ok])
              expect(await one.text()).to.equal(status === 204 ? '' : 'tide')
            }
          }
        }
      }
      now.answer = (_request, response) => void response.end('fine')
      expect(await (await now.stash.fetch(`${now.base}/tides/fine`)).text()).to.equal('fine')
    }))
})

describe('a stash in a program', () => {
  it('can take the place of the global fetch', async () => {
    const own = globalThis.fetch
    try {
      await realUpstream({ endpoints }, async ({ stash, base, received }) => {
        globalThis.fetch = stash.fetch
        for (let i = 0; i < 2; i++) expect((await fetch(`${base}/tides/1`)).status).to.equal(200)
        expect((await fetch(`${base}/other`)).status).to.equal(200)
        expect(received).to.have.length(2)
      })
    } finally {
      globalThis.fetch = own
    }
  })

  it('leaves no listener on a signal that lives long, whatever kind of call it is given to', async () => {
    const fetch = (async () => new Response('{}')) as typeof globalThis.fetch
    const search = { request: 'POST /search', safe: true, freshFor: '1 min' } as const
    const base = 'https://ebbline.example'
    await using stash = await openStash({ fetch, providers: { ebbline: { baseUrl: base, endpoints: { ...endpoints, search } } } })
    const { signal } = new AbortController()
    let listeners = 0
    const [add, remove] = [signal.addEventListener.bind(signal), signal.removeEventListener.bind(signal)]
    Object.assign(signal, {
      addEventListener: (...args: Parameters<typeof add>) => {
        listeners++
        add(...args)
      },
      removeEventListener: (...args: Parameters<typeof remove>) => {
        listeners--
        remove(...args)
      },
    })
    const within = stash.calling({ within: '1 h' })
    const asks = [
      (i: number) => stash.fetch(`${base}/tides/${i % 50}`, { signal }),
      (i: number) => within.fetch(`${base}/tides/w${i}`, { signal }),
      (i: number) => stash.fetch(`${base}/search`, { method: 'POST', body: `${i}`, signal }),
      (i: number) => stash.fetch(`${base}/other/${i}`, { signal }),
    ]
    for (let i = 0; i < scaled(50); i++) for (const ask of asks) await (await ask(i)).text()
    expect(listeners).to.equal(0)
  })

  it('waits for a background call that "reserved" leaves nothing to, for no time at all, and says why', () =>
    realUpstream({ endpoints, limits: [{ atOnce: 2, reserved: 1 }] }, async ({ stash, base }) => {
      const error = await stash
        .calling({ background: true })
        .fetch(`${base}/tides/1`)
        .catch((thrown: Error) => thrown)
      expect(codeOf(error)).to.equal('LIMIT_REACHED')
      expect(error).to.have.property('retryAt', null)
      expect((error as Error).message).to.include('"reserved" leaves nothing to background calls')
    }))

  it('takes names such as "constructor" for ordinary ones, and holds off no more than the path that fails', () =>
    realUpstream(
      {
        endpoints: {
          constructor: { request: 'GET /c/{id}', freshFor: '1 min' },
          toString: { request: 'GET /s/{id}', freshFor: '1 min', holdOff: '1 min' },
          wide: { request: 'GET /v1/*', freshFor: '1 min', holdOff: '1 min' },
        } as never,
        limits: [{ atOnce: 5 }],
      },
      async (now) => {
        const { stash, base } = now
        for (const path of ['/c/1', '/s/1']) expect((await stash.fetch(base + path)).status, path).to.equal(200)
        const down = (request: IncomingMessage) => request.url === '/v1/down/1'
        now.answer = (request, response) => void response.writeHead(down(request) ? 500 : 200).end('{}')
        const status = async (path: string) => {
          const response = await stash.fetch(base + path)
          await response.text()
          return response.status
        }
        expect(await status('/v1/down/1')).to.equal(500)
        expect(await status('/v1/down/1').catch(codeOf)).to.equal('HELD_OFF')
        expect(await status('/v1/up/1')).to.equal(200)
        expect((await stash.status()).providers[0]?.holdOffs[0]).to.include({ endpoint: 'wide', path: '/v1/down/1' })
        await stash.forgive('ebbline')
        expect(await status('/v1/down/1')).to.equal(500)
        expect(await stash.forgive('eblline').catch((error: Error) => error.message)).to.include('did you mean "ebbline"')
      },
    ))

  it('believes what a provider reports within bounds: few limits, short pauses', () =>
    realUpstream({ endpoints }, async (now) => {
      const { stash, base, open } = now
      now.answer = (_request, response) => {
        const limits = Array.from({ length: 400 }, (_, i) => `"l${i}";r=5;t=${60 + i}`).join(', ')
        response.writeHead(429, { 'retry-after': '86400', ratelimit: `"__proto__";r=5;t=60, ${limits}` }).end()
      }
      const paused = async (one: Stash) => {
        await one.fetch(`${base}/other/1`)
        const { reported = [], pausedUntil } = (await one.status()).providers[0] ?? {}
        expect(reported.length).to.be.within(1, 32)
        return Math.round((new Date(pausedUntil ?? 0).getTime() - Date.now()) / 60_000)
      }
      expect(await paused(stash), 'an hour, where nothing else is said').to.equal(60)
      expect(await paused(await open({ endpoints, believeUpTo: '5 min' }))).to.equal(5)
    }))
})
