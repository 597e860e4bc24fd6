import { expect } from 'chai'
import { CallOverdueError, isStashenError, LimitReachedError, memoryStore, openStash, type Stash, type Store } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { notesOf } from '../src/render/remarks.js'
import { hang, json, noon, type Scene, scene, slow } from './support/upstream.js'
import { askedIn, wrappedStore } from './support/wrapped-store.js'

const second = 1_000
const minute = 60_000

/** How a call was answered, by its status and reason, or by its error's code. */
async function got(stash: Pick<Stash, 'fetch'>, whole: Stash, url: string, init?: RequestInit): Promise<string> {
  try {
    const response = await stash.fetch(url, init)
    await response.arrayBuffer()
    return `${response.status} ${whole.outcomeOf(response)?.how} ${whole.outcomeOf(response)?.reason}`
  } catch (error) {
    return isStashenError(error) ? error.code : (error as Error).name
  }
}

const statusThen = (now: Scene, statuses: number[], headers: Record<string, string> = {}) => {
  const good = now.answer
  now.answer = (request, response) => {
    const status = statuses.shift()
    ;(status === undefined ? good : json(() => ({}), status, headers))(request, response)
  }
}

describe('limits and the queue', () => {
  const limited = (limits: object, more: object = {}) => ({
    provider: {
      ...limits,
      endpoints: {
        quotes: { request: 'GET /quotes/{id}', freshFor: '1 min', staleIfError: '1 day', maxWait: '2 min', ...more },
        tides: { request: 'GET /tides/{id}', freshFor: '1 min', maxWait: '2 min' },
      },
    },
  })

  it('let calls wait for their turn, fair between endpoints, urgent before background, and cost nothing when a caller leaves', () =>
    scene(
      async ({ stash, clock, base, received }) => {
        const background = stash.calling({ background: true })
        const leaving = new AbortController()
        await got(stash, stash, `${base}/quotes/first`)
        const calls = [
          ...['b1', 'b2'].map((id) => got(background, stash, `${base}/quotes/${id}`)),
          got(stash, stash, `${base}/quotes/gone`, { signal: leaving.signal }),
          ...['q1', 'q2', 'q3'].map((id) => got(stash, stash, `${base}/quotes/${id}`)),
          got(stash, stash, `${base}/tides/t1`),
        ]
        await clock.sleep(second)
        expect((await stash.status()).providers[0]).to.deep.include({ waiting: 7 })
        leaving.abort()
        const answers = await Promise.all(calls)
        expect(answers[2]).to.equal('AbortError')
        expect(answers.filter((answer) => answer === '200 forwarded absent')).to.have.length(6)
        expect(received.map((line) => line.split('/').at(-1))).to.eql(['first', 'q1', 't1', 'q2', 'q3', 'b1', 'b2'])
        expect(clock.now() - noon).to.be.within(60 * second, 66 * second)
        expect((await stash.status()).providers[0]).to.deep.include({ waiting: 0 })
      },
      limited({ limits: [{ calls: 1, per: '10 s', reserved: 0 }] }),
    ))

  it('give an older answer, a place in the queue or an error with the time, by endpoint and by call', () =>
    scene(
      async ({ stash, clock, base, received }) => {
        const url = `${base}/quotes/today`
        const told: string[] = []
        stash.on('limited', ({ doing, limit }) => void told.push(`${doing} ${limit}`))
        expect(await got(stash, stash, url)).to.equal('200 forwarded absent')
        await clock.sleep(2 * minute)
        expect(await got(stash, stash, url)).to.equal('200 stale limit-reached')
        expect(await got(stash.calling({ atLimit: 'refuse' }), stash, url)).to.equal('LIMIT_REACHED')
        expect(await got(stash.calling({ neverStale: true, maxWait: '1 min' }), stash, url)).to.equal('LIMIT_REACHED')
        const error = await stash.fetch(`${base}/quotes/other`).catch((thrown: unknown) => thrown)
        expect(error)
          .to.be.instanceOf(LimitReachedError)
          .and.include({ provider: 'ebbline', endpoint: 'quotes', limit: '1 calls per hour' })
        expect(Number((error as LimitReachedError).retryAt) - noon).to.be.within(60 * minute, 61 * minute)
        expect(told).to.eql(Array.from({ length: 4 }, () => 'refused 1 calls per hour'))
        expect(() => stash.calling({ maxWaits: 3 } as object)).to.throw(/the call options.*nothing was called[\s\S]*"maxWait"/)
        expect(received).to.have.length(1)
        expect(await got(stash.calling({ atLimit: 'wait', maxWait: '2 hours' }), stash, url)).to.equal('200 forwarded expired')
        expect(told.at(-1)).to.equal('waiting 1 calls per hour')
        expect((await stash.report()).totals.with).to.include({ asked: 6, upstream: 2, stale: 1, errored: 3, oldestStaleMs: 2 * minute })
      },
      limited({ limits: [{ calls: 1, per: 'hour' }] }),
    ))

  it('bound the queue', () =>
    scene(
      async ({ stash, base }) => {
        await got(stash, stash, `${base}/quotes/0`)
        const answers = await Promise.all([1, 2, 3, 4].map((i) => got(stash, stash, `${base}/quotes/${i}`)))
        expect(answers.filter((answer) => answer === 'LIMIT_REACHED')).to.have.length(2)
      },
      limited({ limits: [{ calls: 1, per: '10 s' }], queue: 2 }),
    ))

  it('are learned: nobody asks before the provider says so, and background calls leave others their share', () =>
    scene(async (now) => {
      const { stash, clock, base, received } = now
      const until = new Date(noon + 5 * minute).toUTCString()
      now.answer = json(() => ({}), 200, { 'x-ratelimit-remaining': '2', 'x-ratelimit-limit': '10', 'x-ratelimit-reset': until })
      await got(stash, stash, `${base}/quotes/1`)
      expect(await got(stash.calling({ background: true }), stash, `${base}/quotes/2`)).to.equal('LIMIT_REACHED')
      now.answer = json(() => ({}), 429, { 'retry-after': '300' })
      expect(await got(stash, stash, `${base}/quotes/3`)).to.equal('429 forwarded no-older-answer')
      await clock.sleep(60 * second)
      expect(await got(stash, stash, `${base}/tides/1`), 'its other endpoints neither').to.equal('LIMIT_REACHED')
      expect(received).to.have.length(2)
      const [status] = (await stash.status()).providers
      expect(status).to.deep.include({ pausedUntil: new Date('2026-06-30T12:05:00.000Z'), limits: [] })
      expect(status?.reported).to.eql([{ name: 'x-ratelimit-', left: 1, calls: 10, until: new Date('2026-06-30T12:05:00.000Z') }])
      await clock.sleep(4 * minute)
      now.answer = json(() => ({}))
      expect(await got(stash, stash, `${base}/tides/1`)).to.equal('200 forwarded absent')
    }, limited({})))

  it('count nothing of a call whose caller left while a slow store was asked for leave', () => {
    const store = memoryStore()
    const works = store.records.update.bind(store.records)
    return scene(
      async ({ stash, clock, base, received }) => {
        store.records.update = async (...args) => {
          await clock.sleep(100)
          return works(...args)
        }
        const leaving = new AbortController()
        const gone = got(stash, stash, `${base}/quotes/gone`, { signal: leaving.signal })
        await clock.sleep(50)
        leaving.abort()
        expect(await gone).to.equal('AbortError')
        await clock.sleep(second)
        expect(received).to.eql([])
        expect((await stash.status()).providers[0]?.limits[0]?.left, 'its place is free again').to.equal(1)
      },
      { ...limited({ limits: [{ atOnce: 1 }] }), config: { store } },
    )
  })

  it('hold for requests that no endpoint covers, and not while only measuring', () =>
    scene(
      async ({ stash, base }) => {
        await got(stash, stash, `${base}/other/1`)
        expect(await got(stash.calling({ maxWait: 0 }), stash, `${base}/other/2`, { method: 'PUT' })).to.equal('LIMIT_REACHED')
      },
      limited({ limits: [{ calls: 1, per: 'hour' }] }),
    ).then(() =>
      scene(
        async ({ stash, base }) => {
          for (let i = 0; i < 3; i++) expect(await got(stash, stash, `${base}/quotes/1`)).to.equal('200 forwarded measuring')
        },
        { ...limited({ limits: [{ calls: 1, per: 'hour' }] }), config: { mode: 'measure' } },
      ),
    ))
})

describe('an upstream that fails', () => {
  const shared = Object.assign(memoryStore(), { close() {} })
  const common = Object.assign(memoryStore(), { close() {} })
  const endpoint = (options: object) => ({
    provider: { endpoints: { tides: { request: 'GET /tides/{day}', freshFor: '1 min', holdOff: '0 s', ...options } } },
  })

  it('is asked again where that may help, not before it says so, and not for answers that would be the same', () =>
    scene(
      async (now) => {
        const { stash, clock, base, received } = now
        const retries: number[] = []
        stash.on('retry', ({ afterMs }) => void retries.push(afterMs))
        statusThen(now, [503, 503])
        const response = await stash.fetch(`${base}/tides/1`)
        expect(stash.outcomeOf(response)).to.include({ how: 'forwarded', attempts: 3, upstreamStatus: 200 })
        expect(retries).to.eql([100, 200])
        statusThen(now, [429], { 'retry-after': '7' })
        const began = clock.now()
        expect(await got(stash, stash, `${base}/tides/2`)).to.equal('200 forwarded absent')
        expect(clock.now() - began).to.equal(7 * second)
        for (const [status, calls] of [
          [408, 2],
          [425, 2],
          [404, 1],
          [400, 1],
          [501, 2],
        ] as const) {
          statusThen(now, [status])
          const before = received.length
          await got(stash, stash, `${base}/tides/${status}`)
          expect(received.length - before, `calls for ${status}`).to.equal(calls)
        }
        statusThen(now, [503], { 'retry-after': '60' })
        expect(await got(stash, stash, `${base}/tides/3`), 'longer than anybody waits').to.equal('503 forwarded no-older-answer')
      },
      { ...endpoint({ retries: { upTo: 2, share: 1 }, maxWait: '30 s' }), config: { random: () => 0 } },
    ))

  it('is asked again no more than the share of calls allows, and within the time of the caller', () =>
    scene(
      async (now) => {
        const { stash, clock, base, received } = now
        now.answer = json(() => ({}), 503)
        for (let i = 0; i < 20; i++) await got(stash, stash, `${base}/tides/${i}`)
        expect(received.length, '20 calls, 3 repetitions to begin with, and a tenth').to.equal(25)
        now.answer = hang(clock)
        const began = clock.now()
        const error = await stash
          .calling({ within: '3 s' })
          .fetch(`${base}/tides/x`)
          .catch((thrown: unknown) => thrown)
        expect(error)
          .to.be.instanceOf(CallOverdueError)
          .and.include({ withinMs: 3 * second })
        expect(clock.now() - began).to.equal(3 * second)
        expect(stash.outcomeOf(error)).to.include({ how: 'failed', reason: 'no-older-answer' })
      },
      endpoint({ retries: 5 }),
    ))

  it('gives an older answer when the time of the call is over, and none where the endpoint, the call or the request forbids it', () =>
    scene(
      async (now) => {
        const { stash, clock, base } = now
        const url = `${base}/tides/1`
        await got(stash, stash, url)
        await clock.sleep(2 * minute)
        now.answer = hang(clock)
        expect(await got(stash.calling({ within: '2 s' }), stash, url)).to.equal('200 stale overdue')
        now.answer = json(() => ({}), 500)
        expect(await got(stash, stash, url)).to.equal('200 stale upstream-failed')
        expect(await got(stash.calling({ neverStale: true }), stash, url)).to.equal('500 forwarded no-older-answer')
        expect(await got(stash, stash, url, { headers: { 'cache-control': 'stale-if-error=0' } })).to.equal('500 forwarded no-older-answer')
      },
      endpoint({ staleIfError: '1 hour' }),
    ))

  it('has a default in its place where the endpoint offers one', async () => {
    await scene(
      async (now) => {
        const { stash, base } = now
        now.answer = json(() => ({}), 500)
        const response = await stash.fetch(`${base}/tides/1`)
        expect([response.status, response.headers.get('content-type'), await response.json()]).to.eql([
          200,
          'application/json',
          { tides: [] },
        ])
        expect(response.headers.get('cache-status')).to.equal('stashen; fwd=uri-miss; fwd-status=500; detail=default-given')
        expect((await stash.report()).totals.with).to.include({ asked: 1, fallback: 1, failed: 1, errored: 0 })
      },
      endpoint({ fallback: { json: { tides: [] } } }),
    )
    await using stash = await openStash()
    const find = stash.operation('skerrylight.find', async (_name: string): Promise<string[]> => Promise.reject(new Error('down')), {
      freshFor: '1 min',
      fallback: { value: [] },
    })
    const [one, two] = [await find('Marram'), await find('Marram')]
    one.push('mine')
    expect(two, 'each caller has a value of its own').to.eql([])
    const strict = stash.operation('skerrylight.strict', async () => ({ ok: false }), {
      freshFor: '1 min',
      failsWhen: { at: '/ok', is: false },
    })
    expect((await strict.withOutcome()).outcome).to.include({ how: 'forwarded', stored: false, notStored: 'failed' })
  })

  it('is held off for longer each time, tried by one call when that ends, and tells of it', () =>
    scene(
      async (now) => {
        const { stash, open, clock, base, received } = now
        const told: string[] = []
        stash.on(
          'hold-off',
          ({ endpoint: which, failures, until }) => void told.push(`${which} ${failures} ${Number(until) - clock.now()}`),
        )
        stash.on('recovered', ({ what }) => void told.push(what))
        const good = now.answer
        now.answer = json(() => ({}), 500)
        expect(await got(stash, stash, `${base}/tides/1`)).to.equal('500 forwarded no-older-answer')
        expect(await got(stash, stash, `${base}/tides/2`)).to.equal('HELD_OFF')
        await clock.sleep(second)
        await got(stash, stash, `${base}/tides/1`)
        await clock.sleep(second)
        expect(await got(stash, stash, `${base}/tides/1`)).to.equal('HELD_OFF')
        await clock.sleep(second)
        now.answer = slow(clock, 5 * second, good)
        const answers = Promise.all([1, 2, 3].map((i) => got(stash, stash, `${base}/tides/${i}`)))
        expect((await answers).sort()).to.eql(['200 forwarded absent', 'HELD_OFF', 'HELD_OFF'])
        expect(received).to.have.length(3)
        expect(told).to.eql(['tides 1 1000', 'tides 2 2000', 'upstream'])
        await using other = await open({ store: common, random: () => 0.7 })
        now.answer = json(() => ({}), 500)
        await got(stash, stash, `${base}/tides/4`)
        await clock.sleep(50) // within which others know
        expect(await got(other, other, `${base}/tides/5`), 'another process on the store holds off too').to.equal('HELD_OFF')
        expect((await other.status()).providers[0]?.holdOffs[0]).to.include({ endpoint: 'tides', failures: 1, state: 'held-off' })
        expect((await other.explain(`${base}/tides/5`)).blockedBy).to.include({ why: 'held-off' })
      },
      { ...endpoint({ holdOff: { first: '1 s', upTo: '1 min' } }), config: { store: common, random: () => 0 } },
    ))

  it('is asked ahead of expiry for what is in use, once, and only where limits have room', () =>
    scene(
      async ({ stash, open, clock, base, received }) => {
        await using other = await open({ store: shared })
        await got(stash, stash, `${base}/tides/1`)
        await clock.sleep(30 * second)
        expect(await got(stash, stash, `${base}/tides/1`)).to.equal('200 hit fresh')
        expect(received).to.have.length(1)
        await clock.sleep(25 * second)
        const asked = [stash, other, stash, other].map((one) => got(one, one, `${base}/tides/1`))
        expect(new Set(await Promise.all(asked))).to.eql(new Set(['200 hit fresh']))
        await clock.sleep(second)
        expect(received, 'two stashes on one store, one refresh').to.have.length(2)
        await clock.sleep(50 * second)
        expect(await got(stash, stash, `${base}/tides/1`)).to.equal('200 hit fresh')
        await clock.sleep(second)
        expect(received, 'the rest of the limit is for people').to.have.length(2)
      },
      { ...endpoint({ refreshAhead: '10 s', limits: [{ calls: 4, per: 'hour', reserved: 0.5 }] }), config: { store: shared } },
    ))

  it('is tended in the same way where its answers are not stored', () =>
    scene(
      async (now) => {
        const { stash, base, received } = now
        statusThen(now, [503])
        expect(await got(stash, stash, `${base}/tides/1`)).to.equal('200 forwarded not-reusable')
        now.answer = json(() => ({ error: 1 }))
        expect(await got(stash, stash, `${base}/tides/1`)).to.equal('200 fallback default-given')
        expect(received).to.have.length(4)
      },
      endpoint({ freshFor: undefined, retries: 1, failsWhen: { at: '/error' }, fallback: { text: 'later' } }),
    ))
})

describe('a stash in trouble', () => {
  const rule = { freshFor: '1 day' } as const

  it('goes on without a store that is slow or cannot be opened, and uses it once it can', async () => {
    const clock = new FastClock(noon)
    const store = memoryStore()
    let [opens, hangs] = [0, false]
    const bad: Store = {
      ...wrappedStore(store, (name, work) => (hangs && name === 'entries.get' ? new Promise<never>(() => {}) : work())),
      open: () => {
        if (++opens < 3) throw new Error('no route to the store')
      },
    }
    expect(await openStash({ store: bad, clock }).catch((error: Error) => error.message), 'not without asking').to.include('no route')
    opens = 0
    const warnings: string[] = []
    const stash = await openStash({ store: bad, clock, openWithoutStore: true, warn: (message) => void warnings.push(message) })
    let recovered = 0
    stash.on('recovered', () => void recovered++)
    const find = stash.operation('skerrylight.find', async (name: string) => name, rule)
    await clock.run(
      (async () => {
        expect(await find('Marram')).to.equal('Marram')
        expect((await stash.status()).store.trouble).to.include('no route to the store')
        for (let i = 0; i < 4; i++) {
          await clock.sleep(5 * second)
          await find('Marram')
        }
        expect((await find.withOutcome('Marram')).outcome.how).to.equal('hit')
        hangs = true
        const began = clock.now()
        expect((await find.withOutcome('Marram')).outcome.how).to.equal('forwarded')
        expect(clock.now() - began, 'the time that a store has').to.equal(500)
        await find('Marram')
        expect(clock.now() - began, 'and then it is left alone').to.equal(500)
        hangs = false
        await clock.sleep(second)
        expect((await find.withOutcome('Marram')).outcome.how).to.equal('hit')
        expect((await stash.status()).store).to.include({ trouble: null, entries: 1 })
      })(),
    )
    expect([warnings.length, recovered]).to.eql([2, 2])
    await clock.run(stash.close())
    await clock.run(stash.close())
    expect(await find('Marram').catch((error: { code?: string }) => error.code)).to.equal('STASH_CLOSED')
  })

  it('drops entries that cannot be read, counts them, and asks upstream', async () => {
    const store = memoryStore()
    const spoil: ((entry: object) => object)[] = [
      (entry) => ({ ...entry, memo: undefined, head: '{"status":' }),
      (entry) => ({ ...entry, memo: undefined, head: '', body: 'text' }),
      (entry) => ({ ...entry, memo: undefined, freshUntil: 'tomorrow' }),
      (entry) => ({ ...entry, key: 'GET http://another' }),
    ]
    await scene(
      async ({ stash, base }) => {
        const corrupt: unknown[] = []
        stash.on('corrupt-entry', (event) => void corrupt.push(event))
        const works = store.entries.get.bind(store.entries)
        for (const spoiled of spoil) {
          await got(stash, stash, `${base}/tides/today`)
          store.entries.get = (key: string) => {
            store.entries.get = works
            const entry = works(key)
            return (entry && spoiled(entry)) as never
          }
          expect(await got(stash, stash, `${base}/tides/today`)).to.equal('200 forwarded absent')
          expect(await got(stash, stash, `${base}/tides/today`)).to.equal('200 hit fresh')
        }
        expect(corrupt).to.have.length(spoil.length)
        expect((await stash.report()).totals.with?.corrupt).to.equal(spoil.length)
      },
      { config: { store } },
    )
    await using stash = await openStash({ store: memoryStore() })
    const find = stash.operation('skerrylight.find', async (name: string) => ({ name }), rule)
    await find('Marram')
    expect((await find.withOutcome('Marram')).outcome.how).to.equal('hit')
  })

  it('does not give out what a write made old while the store could not be told', async () => {
    const store = memoryStore()
    let failing = false
    const invalidate = store.entries.invalidate.bind(store.entries)
    store.entries.invalidate = (...args) => {
      if (failing) throw new Error('read-only')
      return invalidate(...args)
    }
    await scene(
      async ({ stash, clock, base }) => {
        const url = `${base}/tides/today`
        await got(stash, stash, url)
        failing = true
        await got(stash, stash, url, { method: 'PUT' })
        expect(await got(stash, stash, url)).to.equal('200 forwarded absent')
        failing = false
        await clock.sleep(11 * second)
        expect(await got(stash, stash, url)).to.equal('200 forwarded expired')
        expect(await got(stash, stash, url)).to.equal('200 hit fresh')
      },
      { config: { store } },
    )
  })

  it('keeps no more answers of an endpoint, and variants of an answer, than it may', () =>
    scene(
      async (now) => {
        const { stash, base } = now
        for (let i = 0; i < 60; i++) await got(stash, stash, `${base}/tides/${i}`)
        expect((await stash.status()).store.entries).to.be.within(20, 22)
        now.answer = json(() => ({}), 200, { vary: 'accept-language' })
        for (let i = 0; i < 130; i++) await got(stash, stash, `${base}/notes/1`, { headers: { 'accept-language': `x${i}` } })
        expect((await stash.status()).store.entries).to.be.within(120, 123)
        expect(notesOf(await stash.report())).to.eql([
          '`maxEntries`, or 100 variants of an answer, is too little: 70 answers were dropped before they expired',
        ])
      },
      {
        provider: {
          endpoints: {
            tides: { request: 'GET /tides/{id}', freshFor: '1 day', maxEntries: 20 },
            notes: { request: 'GET /notes/{id}', freshFor: '1 day', keyedBy: { headers: [] } },
          },
        },
      },
    ))

  it('closes in bounded time, whatever the store does then, and says so once; one about to be opened is closed too', async () => {
    for (const closing of [
      () => Promise.reject(new Error('database is locked')),
      () => new Promise<never>(() => {}),
      () => {
        throw new Error('database is locked')
      },
    ]) {
      const clock = new FastClock(noon)
      const warnings: string[] = []
      const store = Object.assign(memoryStore(), { close: closing })
      const stash = await openStash({ store, clock, warn: (message) => void warnings.push(message) })
      await stash.operation('skerrylight.find', async (name: string) => name, rule)('Marram')
      await clock.run(stash.close())
      expect(clock.now() - noon, 'the time that a store has').to.be.within(0, 500)
      expect(warnings.join()).to.match(/^the store cannot be written[^,]*, [^:]*: (database is locked|it gave no answer within 500 ms)$/)
    }
    const clock = new FastClock(noon)
    let [opens, closes] = [0, 0]
    const slow = Object.assign(memoryStore(), {
      async open() {
        if (++opens === 1) throw new Error('no route to the store')
        await clock.sleep(100)
      },
      close: () => void closes++,
    })
    const stash = await openStash({ store: slow, clock, openWithoutStore: true, warn: () => {} })
    const find = stash.operation('skerrylight.find', async (name: string) => name, rule)
    await clock.run(clock.sleep(second))
    void find('Marram')
    await clock.run(clock.sleep(1))
    await clock.run(stash.close())
    expect([opens, closes]).to.eql([2, 1])
  })

  it('leaves nothing behind when it is closed: no timer, no unwritten count', async () => {
    const clock = new FastClock(noon)
    let timers = 0
    const later = clock.later.bind(clock)
    clock.later = (afterMs, run) => {
      timers++
      let open = true
      const over = () => {
        if (open) timers--
        open = false
      }
      const cancel = later(afterMs, () => {
        over()
        run()
      })
      return () => {
        over()
        cancel()
      }
    }
    const store = Object.assign(memoryStore(), { close() {} })
    const stash = await openStash({ store, clock })
    const find = stash.operation('skerrylight.find', () => clock.sleep(3 * second), rule)
    const running = find()
    await clock.run(clock.sleep(1))
    const closing = stash.close()
    expect(await find().catch((error: { code?: string }) => error.code)).to.equal('STASH_CLOSED')
    await clock.run(closing)
    await running
    expect(timers).to.equal(0)
    const hung = await openStash({ store, clock, closeWithin: '2 s', providers: { skerrylight: { timeout: '1 hour' } } })
    const never = hung.operation('skerrylight.never', () => new Promise<never>(() => {}), rule)
    const givenUp = never().catch((error: { code?: string }) => error.code)
    await clock.run(clock.sleep(1))
    const began = clock.now()
    await clock.run(hung.close())
    expect([await givenUp, clock.now() - began, timers]).to.eql(['STASH_CLOSED', 2 * second, 0])
    expect(await askedIn(store)).to.equal(2)
  })
})
