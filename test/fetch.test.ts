import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { gzipSync } from 'node:zlib'
import { expect } from 'chai'
import { BrokenBodyError, isStashenError, memoryStore, openStash, UpstreamTimeoutError } from 'stashen'
import { type Answer, breakOff, hang, json, noon, type Scene, scene, slow, tides } from './support/upstream.js'
import { askedIn, wrappedStore } from './support/wrapped-store.js'

const second = 1_000
const minute = 60 * second

describe('stash.fetch', () => {
  it('answers a repeated call from store until its freshness ends, with Cache-Status and Age', () =>
    scene(async ({ stash, clock, base, received }) => {
      const ask = async () => {
        const response = await stash.fetch(`${base}/tides/today`)
        const { how, reason, ageMs, freshUntil } = stash.outcomeOf(response) ?? {}
        return [
          ((await response.json()) as { n: number }).n,
          response.headers.get('cache-status'),
          response.headers.get('age'),
          how,
          reason,
          ageMs,
          freshUntil?.getTime(),
        ]
      }
      expect(await ask()).to.eql([
        1,
        'stashen; fwd=uri-miss; fwd-status=200; stored; ttl=60; detail=absent',
        null,
        'forwarded',
        'absent',
        0,
        noon + minute,
      ])
      await clock.sleep(59.5 * second)
      const hit = [1, 'stashen; hit; ttl=0; detail=fresh', '59', 'hit', 'fresh', 59.5 * second, noon + minute]
      expect(await ask()).to.eql(hit)
      expect(await ask(), 'by the short way').to.eql(hit)
      await clock.sleep(0.5 * second)
      expect(await ask()).to.eql([
        2,
        'stashen; fwd=stale; fwd-status=200; stored; ttl=60; detail=expired',
        null,
        'forwarded',
        'expired',
        0,
        noon + 2 * minute,
      ])
      expect(received).to.have.length(2)
    }))

  /** What a failing refresh of an older answer, and of none, gives; `null` stands for the server being gone. */
  const faults: { name: string; answer: (scene: Scene) => Answer; without: (error: unknown, status?: number) => void }[] = [
    ...[500, 503, 429].map((status) => ({
      name: `status ${status}`,
      answer: () => json(() => ({ error: true }), status),
      without: (_: unknown, got?: number) => expect(got).to.equal(status),
    })),
    {
      name: 'a broken body',
      answer: () => breakOff,
      without: (error) => expect(error).to.be.instanceOf(BrokenBodyError).and.to.have.property('cause'),
    },
    {
      name: 'a hung connection',
      answer: ({ clock }) => hang(clock),
      without: (error) =>
        expect(error).to.be.instanceOf(UpstreamTimeoutError).and.to.include({ code: 'UPSTREAM_TIMEOUT', timeoutMs: 30_000 }),
    },
    {
      name: 'a cut connection',
      answer: () => (_request, response) => void response.destroy(),
      without: (error) => expect(error).to.be.instanceOf(TypeError),
    },
  ]
  const both = {
    provider: { endpoints: { tides, other: { request: 'GET /other', freshFor: '1 min', holdOff: 0 } } },
    config: { random: () => 0 }, // pauses of their full length
  } as const
  for (const { name, answer, without } of faults) {
    it(`keeps giving the older answer on ${name}, holds off, and recovers`, () =>
      scene(async (now) => {
        const { stash, clock, base, received } = now
        const good = now.answer
        const ask = async (path = '/tides/today') => {
          const response = await stash.fetch(base + path)
          return [await response.json(), stash.outcomeOf(response)?.how, stash.outcomeOf(response)?.reason]
        }
        await ask()
        await clock.sleep(2 * minute)
        now.answer = answer(now)
        expect(await ask()).to.eql([{ n: 1 }, 'stale', 'upstream-failed'])
        await clock.sleep(29 * second)
        expect(await ask()).to.eql([{ n: 1 }, 'stale', 'held-off'])
        expect(received, 'nobody asks during the hold-off').to.have.length(2)
        await clock.sleep(2 * second)
        expect(await ask(), 'asked again, failed again').to.eql([{ n: 1 }, 'stale', 'upstream-failed'])
        await stash.fetch(`${base}/other`).then(
          (response) => without(undefined, response.status),
          (error) => without(error),
        )
        await clock.sleep(61 * second) // the second pause is twice as long
        now.answer = good
        expect((await ask()).slice(1)).to.eql(['forwarded', 'expired'])
        now.answer = answer(now)
        await clock.sleep(61 * minute)
        await stash.fetch(`${base}/tides/today`).then(
          (response) => without(undefined, response.status),
          (error) => without(error),
        )
        await clock.sleep(1)
      }, both))
  }

  it('gives the decoded body of a compressed answer with all its fields, from upstream and from store', async () => {
    const server = createServer((_request, response) => {
      response.writeHead(200, { 'content-encoding': 'gzip', 'content-type': 'text/plain' }).end(gzipSync('high water'))
    })
    await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
    const baseUrl = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
    try {
      await using stash = await openStash({ providers: { ebbline: { baseUrl, endpoints: { tides } } } })
      for (const how of ['forwarded', 'hit']) {
        const response = await stash.fetch(`${baseUrl}/tides/today`)
        expect([stash.outcomeOf(response)?.how, await response.text()]).to.eql([how, 'high water'])
        expect(response.headers.get('content-encoding')).to.equal('gzip')
      }
    } finally {
      server.closeAllConnections()
      server.close()
    }
  })

  it('chooses among the variants of an answer by the fields it varies by, also for callers who share a call (RFC 9111 section 4.1)', () =>
    scene(
      async (now) => {
        const { stash, base, received, clock } = now
        now.answer = slow(clock, second, (request, response) => {
          const speaks = request.headers['accept-language'] ?? 'none'
          response.writeHead(200, { vary: 'Accept-Language', 'content-type': 'text/plain' }).end(`${speaks}, call ${received.length}`)
        })
        const ask = async (language?: string) => {
          const response = await stash.fetch(
            `${base}/tides/today`,
            language === undefined ? undefined : { headers: { 'accept-language': language } },
          )
          return [await response.text(), stash.outcomeOf(response)?.how, stash.outcomeOf(response)?.fwd]
        }
        const atOnce = await Promise.all([ask('no'), ask('de'), ask('no'), ask(), ask('de')])
        expect(atOnce.map(([text]) => text?.split(',')[0])).to.eql(['no', 'de', 'no', 'none', 'de'])
        expect(received, 'one call a variant').to.have.length(3)
        for (const language of ['no', 'de', undefined]) {
          const [text, how] = await ask(language)
          expect([text?.split(',')[0], how]).to.eql([language ?? 'none', 'hit'])
        }
        expect(await ask('fr')).to.eql(['fr, call 4', 'forwarded', 'vary-miss'])
        expect((await ask('fr'))[1]).to.equal('hit')
        expect((await ask('no'))[1]).to.equal('hit')
        expect(received).to.have.length(4)
        await clock.sleep(2 * minute)
        now.answer = json(() => 1, 503)
        expect((await ask('de'))[0]?.split(',')[0], 'the older answer is one of the same variant').to.equal('de')
      },
      { provider: { endpoints: { tides: { ...tides, keyedBy: { headers: [] } } } } },
    ))

  it('loses no count when it is closed with calls under way, also those it only passes on', () => {
    const store = Object.assign(memoryStore(), { close() {} })
    return scene(
      async (now) => {
        now.answer = (request, response) => {
          const takes = request.url === '/vessels' ? 5 * second : 3 * second
          slow(
            now.clock,
            takes,
            json(() => 1),
          )(request, response)
        }
        const calls = [['/tides/today'], ['/tides/today'], ['/tides/today', { method: 'PUT' }], ['/vessels']] as const
        const answers = calls.map(([path, init]) => now.stash.fetch(now.base + path, init).then((response) => response.status))
        await now.clock.sleep(second)
        await now.stash.close()
        expect(await askedIn(store)).to.equal(4)
        expect(await Promise.all(answers)).to.eql([200, 200, 200, 200])
      },
      { config: { store } },
    )
  })

  it('resolves a relative URL against the page it is asked on, each time', async () => {
    const page = { href: 'https://kelpmouth.example/tides/x', origin: 'https://kelpmouth.example' }
    const browser = globalThis as { location?: typeof page }
    browser.location = page
    try {
      let calls = 0
      const endpoints = {
        tides: { request: 'GET /tides/{day}', freshFor: '1 min' },
        dues: { request: 'GET /dues/{day}', freshFor: '1 min' },
      }
      await using stash = await openStash({
        fetch: async () => new Response(String(++calls)),
        providers: { ebbline: { baseUrl: 'https://kelpmouth.example', endpoints } },
      })
      const ask = async () => (await stash.fetch('today')).text()
      expect([await ask(), await ask()]).to.eql(['1', '1'])
      page.href = 'https://kelpmouth.example/dues/x'
      expect([await ask(), await ask()]).to.eql(['2', '2'])
    } finally {
      delete browser.location
    }
  })

  it('gives no stored answer to a caller who refused it, even when the upstream fails', () =>
    scene(async (now) => {
      await now.stash.fetch(`${now.base}/tides/today`)
      await now.clock.sleep(2 * minute)
      now.answer = json(() => 1, 503)
      const response = await now.stash.fetch(`${now.base}/tides/today`, { headers: { 'cache-control': 'no-cache' } })
      expect([response.status, now.stash.outcomeOf(response)?.reason]).to.eql([503, 'no-older-answer'])
      expect((await now.stash.fetch(`${now.base}/tides/today`)).headers.get('cache-status')).to.equal(
        'stashen; hit; ttl=-60; detail=held-off',
      )
    }))

  it('calls upstream once for any number of simultaneous askers, each of whom gets a body of its own', () =>
    scene(async (now) => {
      now.answer = slow(
        now.clock,
        3 * second,
        json(() => ({ tide: 'high' }), 200, { 'set-cookie': ['a=1', 'b=2'] }),
      )
      const responses = await Promise.all(Array.from({ length: 500 }, () => now.stash.fetch(`${now.base}/tides/today`)))
      expect(now.received).to.eql(['GET /tides/today'])
      const bytes = await Promise.all(responses.map(async (response) => new Uint8Array(await response.arrayBuffer())))
      bytes[0]?.fill(0)
      expect(new TextDecoder().decode(bytes[1])).to.equal('{"tide":"high"}')
      const cookies = responses.filter((response) => response.headers.has('set-cookie'))
      expect(
        cookies.map((response) => response.headers.getSetCookie()),
        'cookies reach only the caller they were set for',
      ).to.eql([['a=1', 'b=2']])
      expect(responses.map((response) => now.stash.outcomeOf(response)?.how).filter((how) => how === 'collapsed')).to.have.length(499)
      expect((await now.stash.fetch(`${now.base}/tides/today`)).headers.has('set-cookie')).to.equal(false)
      const { totals } = await now.stash.report()
      expect(totals.with).to.include({ asked: 501, upstream: 1, collapsed: 499, fromStore: 1 })
    }))

  it('lets one of several callers abort without harm to the others, and ends the call when all have gone', () =>
    scene(async (now) => {
      now.answer = slow(
        now.clock,
        3 * second,
        json(() => 'tide'),
      )
      const [first, second_] = [new AbortController(), new AbortController()]
      const ask = (signal: AbortSignal) =>
        now.stash.fetch(`${now.base}/tides/today`, { signal }).then(
          (response) => response.json(),
          (error) => error.name,
        )
      const [one, two] = [ask(first.signal), ask(second_.signal)]
      await now.clock.sleep(second)
      first.abort()
      expect(await one).to.equal('AbortError')
      expect(await two).to.equal('tide')
      await now.clock.sleep(2 * minute)
      const three = ask(AbortSignal.abort())
      expect(await three).to.equal('AbortError')
      const last = new AbortController()
      const four = ask(last.signal)
      await now.clock.sleep(second)
      last.abort()
      expect(await four).to.equal('AbortError')
      expect(await ask(new AbortController().signal), 'a new caller does not join the ended call').to.equal('tide')
      expect(now.received).to.have.length(3)
    }))

  it('keeps binary bodies, statuses, empty bodies and repeated fields exactly', () =>
    scene(async (now) => {
      const bytes = Uint8Array.from({ length: 256 }, (_, i) => i)
      now.answer = (_request, response) => {
        response.writeHead(201, 'Made', { 'content-type': 'application/octet-stream', link: ['<a>; rel=a', '<b>; rel=b'], 'x-one': 'ø' })
        response.end(bytes)
      }
      for (const how of ['forwarded', 'hit']) {
        const response = await now.stash.fetch(`${now.base}/tides/today`)
        expect(now.stash.outcomeOf(response)?.how).to.equal(how)
        expect([response.status, response.statusText, response.headers.get('link')]).to.eql([201, 'Made', '<a>; rel=a, <b>; rel=b'])
        expect(new Uint8Array(await response.arrayBuffer())).to.eql(bytes)
      }
      now.answer = (_request, response) => response.writeHead(204).end()
      for (const how of ['forwarded', 'hit']) {
        const response = await now.stash.fetch(`${now.base}/tides/none`)
        expect([now.stash.outcomeOf(response)?.how, response.status, await response.text()]).to.eql([how, 204, ''])
      }
    }))

  /** Requests that must reach the server both times. */
  const twice: { name: string; answer?: Answer; url?: string; init?: RequestInit; how?: string }[] = [
    { name: 'no endpoint covers the path', url: '/vessels', how: 'passed' },
    { name: 'the method is another', init: { method: 'POST', body: '{}' }, how: 'passed' },
    { name: 'the endpoint has no freshness', url: '/notes', how: 'passed' },
    { name: 'the answer is 404', answer: json(() => ({ error: 'none' }), 404) },
    { name: 'the answer varies by more than fields', answer: json(() => 1, 200, { vary: 'Accept-Language, *' }) },
    { name: 'the answer is a part', answer: json(() => 1, 206) },
    { name: 'a range is asked', init: { headers: { range: 'bytes=0-3' } } },
    { name: 'a condition is asked', init: { headers: { 'if-none-match': '"a"' } } },
    { name: 'a stored answer is refused by field', init: { headers: { 'cache-control': 'no-cache' } } },
    { name: 'a stored answer is refused by option', init: { cache: 'reload' } as RequestInit },
  ]
  for (const { name, answer, url = '/tides/today', init, how = 'forwarded' } of twice) {
    it(`reuses nothing where ${name}, and still counts`, () =>
      scene(
        async (now) => {
          if (answer) now.answer = answer
          for (let i = 0; i < 2; i++) {
            const response = await now.stash.fetch(now.base + url, init)
            await response.text()
            expect(now.stash.outcomeOf(response)?.how).to.equal(how)
          }
          expect(now.received).to.have.length(2)
          expect((await now.stash.report()).totals.with).to.include({ asked: 2, upstream: 2, fromStore: 0 })
        },
        { provider: { endpoints: { tides, notes: { request: 'GET /notes' } } } },
      ))
  }

  it('never gives an answer to a caller with another credential, and writes no credential down', () => {
    const store = memoryStore()
    const entries: unknown[] = []
    const watched = wrappedStore(store, (name, work, [entry]) => {
      if (name === 'entries.put') entries.push({ ...(entry as object), body: '' })
      return work()
    })
    return scene(
      async ({ stash, base, received }) => {
        const callers: [string, Record<string, string>][] = [
          ['', {}],
          ['', { authorization: 'Bearer hush-a' }],
          ['', { authorization: 'Bearer hush-b' }],
          ['', { cookie: 'who=hush-c' }],
          ['', { 'x-key': 'hush-d' }],
          ['?key=hush-e', {}],
          ['?key=hush-f', {}],
        ]
        const ask = async ([query, headers]: (typeof callers)[number]) =>
          ((await (await stash.fetch(`${base}/tides/today${query}`, { headers })).json()) as { n: number }).n
        const first = await Promise.all(callers.map(ask))
        expect(new Set(first).size, 'every caller has an answer of its own').to.equal(callers.length)
        expect(await Promise.all(callers.map(ask)), 'and gets it again').to.eql(first)
        expect(received).to.have.length(callers.length)
        expect(JSON.stringify([entries, await stash.report(), await store.ledger.facts()])).to.not.include('hush')
      },
      { provider: { endpoints: { tides }, secretQuery: ['key'], secretHeaders: ['X-Key'] }, config: { store: watched } },
    )
  })

  it('takes a URL, a Request and the order of parameters as the same, and repeated or other values as others', () =>
    scene(async ({ stash, base, received }) => {
      const same = [
        `${base}/tides/today?a=1&b=2`,
        new URL(`${base}/tides/today?b=2&a=1#top`),
        new Request(`${base}/x/../tides/today?a=1&b=2`),
      ]
      for (const input of same) await stash.fetch(input)
      expect(received).to.have.length(1)
      for (const query of ['?a=1&b=3', '?a=1&a=2', '?a=2&a=1', '?a=1', '?', '?a']) await stash.fetch(`${base}/tides/today${query}`)
      expect(received).to.have.length(7)
    }))

  it('goes upstream as if there were no store while the store fails, and says so once', () => {
    const broken = memoryStore()
    let failing = true
    for (const name of ['get', 'put'] as const) {
      const works = broken.entries[name].bind(broken.entries) as (arg: never) => never
      broken.entries[name] = (arg: never) => {
        if (failing) throw new Error('disk on fire')
        return works(arg)
      }
    }
    return scene(
      async ({ stash, clock, base, received, warnings }) => {
        let recovered = 0
        stash.on('recovered', ({ what }) => {
          recovered += what === 'store' ? 1 : 0
        })
        for (let i = 0; i < 3; i++) expect((await stash.fetch(`${base}/tides/today`)).status).to.equal(200)
        expect(received).to.have.length(3)
        expect(warnings).to.have.length(2)
        expect(warnings[0]).to.include('disk on fire')
        failing = false
        await clock.sleep(11 * second)
        for (let i = 0; i < 3; i++) await stash.fetch(`${base}/tides/today`)
        expect(received).to.have.length(4)
        expect([warnings.length, recovered]).to.eql([2, 2])
      },
      { config: { store: broken } },
    )
  })

  it('distrusts entries from the future, obeys a shortened freshness at once, and refuses calls after it is closed', () => {
    const store = Object.assign(memoryStore(), { close() {} })
    return scene(
      async ({ stash, open, clock, base, received }) => {
        await stash.fetch(`${base}/tides/today`)
        const past = { ...clock, now: () => clock.now() - 3_600_000, ticks: () => clock.ticks(), later: clock.later.bind(clock) }
        const early = await open({ store, clock: past })
        expect(early.outcomeOf(await early.fetch(`${base}/tides/today`))?.reason, 'the clock was set back an hour').to.equal('expired')
        const strict = await open({
          store,
          providers: { ebbline: { baseUrl: base, endpoints: { tides: { ...tides, freshFor: '10 s' } } } },
        })
        await strict.fetch(`${base}/tides/today`)
        await clock.sleep(11 * second)
        expect(strict.outcomeOf(await strict.fetch(`${base}/tides/today`))?.reason).to.equal('expired')
        expect(received).to.have.length(4)
        for (const one of [early, strict]) await one.close()
        await early.close()
        const refused = await early.fetch(`${base}/tides/today`).catch((error: unknown) => error)
        expect(isStashenError(refused) && refused.code).to.equal('STASH_CLOSED')
      },
      { config: { store } },
    )
  })
})
