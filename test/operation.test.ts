import { expect } from 'chai'
import fc from 'fast-check'
import { isStashenError, openStash } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { sqliteStore } from 'stashen/sqlite'
import { operationLater } from '../src/engine/operation/operation-later.js'
import { temporaryFolder } from './support/files.js'
import { scaled } from './support/scale.js'
import { noon } from './support/upstream.js'

const rule = { freshFor: '1 min', staleIfError: '1 hour' } as const

describe('stash.operation', () => {
  const file = temporaryFolder()

  it('reuses the value of a call with the same arguments, keeps it apart from what receivers do to it, and says how it came', async () => {
    const clock = new FastClock(noon)
    await using stash = await openStash({ clock, providers: { skerrylight: { plan: { currency: 'EUR', perCall: '0.01' } } } })
    let calls = 0
    const find = stash.operation(
      'skerrylight.find',
      async (name: string, near?: { lat: number; lon: number }) => ({ name, near: near ?? null, calls: ++calls }),
      rule,
    )
    const first = await find('Marram', { lat: 58, lon: 6 })
    first.name = 'scribbled'
    expect(await find('Marram', { lon: 6, lat: 58 }), 'the order of names says nothing').to.eql({
      name: 'Marram',
      near: { lat: 58, lon: 6 },
      calls: 1,
    })
    const { value, outcome } = await find.withOutcome('Marram', { lat: 58, lon: 6 })
    expect(value.calls).to.equal(1)
    expect(outcome).to.include({ how: 'hit', reason: 'fresh', provider: 'skerrylight', endpoint: 'find', ageMs: 0 })
    expect(outcome.saved).to.eql({ currency: 'EUR', amount: '0.01' })
    expect((await find('Marram')).calls).to.equal(2)
    await clock.run(clock.sleep(61_000))
    expect((await find.withOutcome('Marram')).outcome).to.include({ how: 'forwarded', reason: 'expired', stored: true })
  })

  it('gives the older value while the function fails, the very error where there is none, and ends at the timeout', async () => {
    const clock = new FastClock(noon)
    await using stash = await openStash({ clock, providers: { skerrylight: { timeout: '3 s' } } })
    const mishap = new RangeError('no such vessel')
    let act: () => Promise<string> = async () => 'v-201'
    const find = stash.operation('skerrylight.find', (_name: string) => act(), rule)
    await find('Marram')
    await clock.run(clock.sleep(61_000))
    act = () => Promise.reject(mishap)
    expect((await find.withOutcome('Marram')).outcome).to.include({ how: 'stale', reason: 'upstream-failed', fwd: 'stale' })
    expect(await find('Sandwort').catch((error: unknown) => error)).to.equal(mishap)
    act = () => new Promise(() => {})
    const overdue = await clock.run(find('Sandwort').catch((error: unknown) => error))
    expect(isStashenError(overdue) && [overdue.code, clock.now()]).to.eql(['UPSTREAM_TIMEOUT', noon + 61_000 + 3_000])
  })

  it('calls once for ten thousand simultaneous askers', async () => {
    await using stash = await openStash()
    let calls = 0
    const find = stash.operation('skerrylight.find', async (name: string) => ({ name, calls: ++calls }), rule)
    const answers = await Promise.all(Array.from({ length: 10_000 }, () => find('Marram')))
    expect(calls).to.equal(1)
    expect(new Set(answers).size, 'every asker has an object of its own').to.equal(10_000)
  })

  it('stores values that JSON would change as they were, also in a file, and passes on those it could not give back', async () => {
    const exact = [
      ...[undefined, Number.NaN, -0, 2n ** 70n, 1n, new Date(5), new Date(Number.NaN), new Map([[{ a: 1 }, [2n]]]), new Set([3, 1])],
      ...[
        new Map(),
        new Map([
          ['a', 1],
          ['10', 2],
          ['2', 3],
        ]),
        { at: new Map([['x', { y: new Map([['__proto__', 1]]) }]]), a: { b: 1n } },
      ],
      ...[new Uint8Array([1, 2]), new Float64Array([1.5]), Buffer.from('x'), { a: undefined, b: [new Date(7)] }, '\ud800'],
    ]
    const inexact = [new (class Vessel {})(), () => 1, { crew: new (class Mate extends Map {})() }, [Buffer.from('x')], Symbol('x')]
    const path = file('values.db')
    for (const how of ['forwarded', 'hit']) {
      await using stash = await openStash({ store: sqliteStore(path) })
      const find = stash.operation('skerrylight.odd', async (i: number) => [...exact, ...inexact][i], rule)
      for (const [i, value] of exact.entries()) {
        const got = await find.withOutcome(i)
        expect(got.value).to.eql(value)
        expect(Object.is(got.value, value) || typeof value === 'object', String(i)).to.equal(true)
        expect(got.outcome.how, String(i)).to.equal(how)
        if (how === 'hit' && typeof value === 'object') expect(await find(i), 'every receiver has its own').to.not.equal(await find(i))
      }
      for (const [i, value] of inexact.entries()) {
        const got = await find.withOutcome(exact.length + i)
        expect(got.value).to.equal(value)
        expect(got.outcome).to.include({ how: 'forwarded', stored: false, notStored: 'inexact' })
      }
    }
  })

  it('tells arguments of every built-in kind apart by what they hold', async () => {
    await using stash = await openStash()
    let calls = 0
    const find = stash.operation('skerrylight.any', async (..._: unknown[]) => ++calls, rule)
    const kinds: (() => unknown[])[] = [
      ...[() => [new Date(1)], () => [new Date(2)], () => ['1970-01-01T00:00:00.001Z'], () => [1], () => [1n], () => ['1n'], () => [-0]],
      ...[() => [0], () => [Number.NaN], () => ['NaN'], () => [new Map([['a', 1]])], () => [new Map([['a', 1n]])], () => [{ a: 1 }]],
      ...[() => [new Set([1, 2])], () => [new Set([2, 1])], () => [[1, 2]], () => [new Uint8Array([1])], () => [new Int8Array([1])]],
      ...[
        () => [new Uint8Array([1]).buffer],
        () => [undefined, 1],
        () => [null, 1],
        () => [{ a: undefined }],
        () => [{}],
        () => ['\ud800'],
      ],
      ...[() => [new Date(1), new Date(2)], () => [[new Date(1), new Date(2)]], () => [{ b: { c: [1n] }, a: new Date(0) }]],
    ]
    const first: unknown[] = []
    for (const kind of kinds) first.push(await find(...kind()))
    expect(calls).to.equal(kinds.length)
    const again: unknown[] = []
    for (const kind of kinds) again.push(await find(...kind()))
    expect(again).to.eql(first)
    expect(await find({ a: new Date(0), b: { c: [1n] } }), 'the order of names says nothing').to.equal(kinds.length)
  })

  it('gives back exactly any JSON value it stored, and never one call the answer of another (property)', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.array(fc.jsonValue({ maxDepth: 2 }), { maxLength: 3 }), { minLength: 2, maxLength: 6 }),
        async (callsArgs) => {
          await using stash = await openStash()
          const echo = stash.operation('skerrylight.echo', async (...args: unknown[]) => ({ args }), rule)
          for (let time = 0; time < 2; time++) {
            for (const args of callsArgs.map(asJson)) expect(await echo(...args)).to.eql({ args })
          }
        },
      ),
      { numRuns: scaled(6) },
    )
  })

  it('refuses arguments that give no key, with what to do, and takes "keyedBy" instead', async () => {
    await using stash = await openStash()
    const plain = stash.operation('skerrylight.plain', async (_: unknown) => 1, rule)
    const cyclic: Record<string, unknown> = {}
    cyclic.self = cyclic
    const refused: [unknown, string][] = [
      [cyclic, 'argument 1.self is a part of itself'],
      [() => 1, 'argument 1 is a function'],
      [{ crew: [new Map([[1, Symbol('x')]])] }, 'argument 1.crew[0][0].value is a symbol'],
      [new (class Vessel {})(), 'argument 1 is an instance of Vessel'],
      [new (class Log extends Date {})(), 'argument 1 is an instance of Log'],
      [Promise.resolve(), 'argument 1 is an instance of Promise'],
      // as runtimes mark promises while something watches asynchronous calls
      [Object.assign(Promise.resolve(), { [Symbol('id')]: 1 }), 'argument 1 is an instance of Promise'],
      [{ [Symbol('id')]: 1 }, 'argument 1 is an object with members named by symbols'],
      [/tide/, 'argument 1 is an instance of RegExp'],
    ]
    for (const [argument, said] of refused) {
      const error = await plain(argument).catch((thrown: unknown) => thrown)
      expect(isStashenError(error) && error.code, said).to.equal('ARGUMENTS_UNKEYABLE')
      for (const part of ['skerrylight.plain', 'keyedBy', said]) expect((error as Error).message).to.include(part)
    }
    const forgetful = stash.operation('skerrylight.forgetful', async () => 1, { ...rule, keyedBy: () => undefined })
    expect(((await forgetful().catch((thrown: unknown) => thrown)) as Error).message).to.include('it is undefined')
    let calls = 0
    const byDay = stash.operation('skerrylight.byDay', async (_at: Date) => ++calls, {
      ...rule,
      keyedBy: (at) => at.toISOString().slice(0, 10),
    })
    expect(await byDay(new Date('2026-06-30T06:00Z'))).to.equal(1)
    expect(await byDay(new Date('2026-06-30T18:00Z'))).to.equal(1)
    expect(await byDay(new Date('2026-07-01T06:00Z'))).to.equal(2)
  })

  it('never gives one object the value of another whose method was wrapped', async () => {
    class Berth {
      constructor(readonly name: string) {}
      async price() {
        return `${this.name} 12.50`
      }
    }
    await using stash = await openStash()
    const price = stash.operation('quayrate.price', Berth.prototype.price, rule)
    const [north, south] = [new Berth('north'), new Berth('south')].map((berth) => Object.assign(berth, { price }))
    for (const ask of [() => north?.price(), () => price.withOutcome.call(south), () => price.calling({ background: true }).call(south)]) {
      const error = await Promise.resolve(ask()).catch((thrown: Error) => thrown)
      expect(error, String(error)).to.have.property('code', 'ARGUMENTS_UNKEYABLE')
      expect((error as Error).message)
        .to.include('"this"')
        .and.include('.bind(')
        .and.include('"keyedBy"')
    }
    const keyed = stash.operation('quayrate.keyed', Berth.prototype.price, {
      ...rule,
      keyedBy(this: Berth) {
        return this.name
      },
    })
    expect([await keyed.call(north as Berth), await keyed.call(south as Berth)]).to.eql(['north 12.50', 'south 12.50'])
    const bound = stash.operation('quayrate.bound', new Berth('west').price.bind(new Berth('east')), rule)
    const holder = { bound, arrow: stash.operation('quayrate.arrow', async (n: number) => n + 1, rule) }
    expect([await holder.bound(), await holder.arrow(1), (await holder.arrow.withOutcome(1)).outcome.how]).to.eql(['east 12.50', 2, 'hit'])
  })
  it('hands its first caller the very value, all others one of their own, and stores only what it can give back', async () => {
    class Vessel {
      constructor(
        readonly name: string,
        readonly seen: Date,
      ) {}
    }
    const warnings: string[] = []
    await using stash = await openStash({ warn: (message) => void warnings.push(message) })
    const returned: unknown[] = []
    const nothing = () => {}
    const wrapped = (id: string, make: () => unknown, more: object = {}) =>
      stash.operation(`skerrylight.${id}`, async () => returned[returned.push(make()) - 1], { ...rule, ...more })
    const rows: [id: string, make: () => unknown, stored: boolean, more?: object][] = [
      ['object', () => ({ a: [1, { b: null }] }), true],
      ['undefined', () => undefined, true],
      ['empty', () => ({ a: undefined }), true],
      ['order', () => ({ b: 1, a: 2, 10: 3 }), true],
      ['dates', () => [new Date(5), new Date(1.5e12 + 1)], true],
      ['zero', () => [-0, Number.NaN, Number.NEGATIVE_INFINITY], true],
      ['big', () => 2n ** 70n, true],
      ['set', () => new Set([1, 'a']), true],
      ['bytes', () => new Uint8Array([1, 2]), true],
      ['buffer', () => Buffer.from('kelp'), true],
      ['floats', () => new Float64Array([0.5]), true],
      ['match', () => /a(b)/.exec('ab'), false],
      ['hole', () => Object.assign(new Array(2), [1]), false],
      ['hidden', () => Object.defineProperty({ a: 1 }, 'b', { value: 2 }), false],
      ['getter', () => Object.defineProperty({}, 'a', { get: () => 1, enumerable: true }), false],
      ['inner', () => ({ bytes: Buffer.from('kelp') }), false],
      ['function', () => nothing, false],
      ['vessel', () => new Vessel('Marram', new Date(7)), false],
      [
        'formed',
        () => new Vessel('Marram', new Date(7)),
        true,
        {
          form: { toPlain: ({ name, seen }: Vessel) => ({ name, seen }), fromPlain: (plain: Vessel) => new Vessel(plain.name, plain.seen) },
        },
      ],
      [
        'unformed',
        () => new Vessel('Marram', new Date(7)),
        false,
        { form: { toPlain: (value: Vessel) => value, fromPlain: (plain: Vessel) => plain } },
      ],
    ]
    for (const [id, make, stored, more] of rows) {
      const ask = wrapped(id, make, more)
      const before = returned.length
      const both = await Promise.all([ask.withOutcome(), ask.withOutcome()])
      const later = await ask.withOutcome()
      const values = [...both, later].map(({ value }) => value)
      expect(values[0], id).to.equal(returned[before])
      for (const value of values.slice(1)) expect(value, id).to.eql(returned[before])
      expect([returned.length - before, later.outcome.how, both[0].outcome.notStored], id).to.eql(
        stored ? [1, 'hit', undefined] : [3, 'forwarded', 'inexact'],
      )
      if (typeof values[0] === 'object') expect(new Set(values).size, `${id}: each has its own`).to.equal(3)
      expect(values.map((value) => Object.prototype.toString.call(value) + String((value as object)?.constructor?.name))[2], id).to.equal(
        Object.prototype.toString.call(values[0]) + String((values[0] as object)?.constructor?.name),
      )
      if (id === 'order') expect(values.map((value) => Object.keys(value as object))[2]).to.eql(['10', 'b', 'a'])
    }
    expect(warnings, 'once each').to.have.length(rows.filter(([, , stored]) => !stored).length)
    expect(warnings.at(-2)).to.match(
      /^values of skerrylight\.vessel are passed on and not stored: .*"toPlain".*: it is an instance of Vessel$/,
    )
    expect(warnings.find((warning) => warning.includes('.inner'))).to.include('something that its stored form does not give back')
  })

  it('can be reloaded, bypassed, explained and aborted by call, and excepted by its arguments', async () => {
    let calls = 0
    let release = () => {}
    const warnings: string[] = []
    await using stash = await openStash({ warn: (message) => void warnings.push(message) })
    const find = stash.operation('skerrylight.find', async (name: string) => `${name} ${++calls}`, {
      ...rule,
      exceptArguments: (name) => (name === 'boom' ? expect.fail('no') : name.startsWith('live')),
    })
    expect(await find.explain('Marram')).to.include({
      provider: 'skerrylight',
      endpoint: 'find',
      would: 'call',
      reason: 'absent',
      stored: null,
    })
    expect([await find('Marram'), await find('Marram')]).to.eql(['Marram 1', 'Marram 1'])
    const explained = await find.explain('Marram')
    expect(explained).to.include({ key: 'skerrylight.find["Marram"]', would: 'serve', reason: 'fresh', olderAnswerOnFailure: true })
    expect(explained.stored).to.include({ freshBy: 'rule', bytes: 10 })
    const bypassed = await find.calling({ bypass: true }).withOutcome('Marram')
    expect([bypassed.value, bypassed.outcome.reason, await find('Marram')]).to.eql(['Marram 2', 'no-store-asked', 'Marram 1'])
    const reloaded = await find.calling({ reload: true }).withOutcome('Marram')
    expect([reloaded.value, reloaded.outcome.reason, await find('Marram')]).to.eql(['Marram 3', 'reload-asked', 'Marram 3'])
    expect([await find('live A'), await find('live A'), (await find.withOutcome('live A')).outcome.reason]).to.eql([
      'live A 4',
      'live A 5',
      'request-excepted',
    ])
    expect([await find('boom'), await find('boom'), warnings.length]).to.eql(['boom 7', 'boom 8', 1])
    expect(warnings[0]).to.include('"exceptArguments" of skerrylight.find')
    const slow = stash.operation('skerrylight.slow', () => new Promise<string>((done) => (release = () => done('late'))), rule)
    const leaving = new AbortController()
    const waits = slow.calling({ signal: leaving.signal })()
    const stays = slow()
    await new Promise((done) => setTimeout(done, 5))
    leaving.abort(new Error('gone'))
    expect(await waits.catch((error: Error) => error.message)).to.equal('gone')
    release()
    expect(await stays, 'for whoever stays').to.equal('late')
    await using web = await openStash({ fetch: () => new Promise<Response>(() => {}), closeWithin: '1 ms' })
    const [own, beside] = [new AbortController(), new AbortController()]
    const url = 'https://tides.ebbline.example/tides'
    const { fetch } = web.calling({ signal: own.signal })
    const asked = [fetch(url), fetch(new Request(url)), fetch(new Request(url), { signal: beside.signal })]
    const reasons = asked.map((one) => one.catch((error: Error) => error.message))
    own.abort(new Error('own'))
    expect(await Promise.race([Promise.all(reasons.slice(0, 2)), reasons[2]])).to.eql(['own', 'own'])
    beside.abort(new Error('beside'))
    expect(await reasons[2]).to.equal('beside')
    const heard: unknown[] = []
    const lines: string[] = []
    const journal = { write: (more: readonly string[]) => void lines.push(...more), async *read() {}, close() {} }
    await using labelling = await openStash({
      ...{ journal, fetch: async () => new Response('high'), warn: () => {} },
      providers: {
        ebbline: { baseUrl: 'https://tides.ebbline.example', endpoints: { tides: { request: 'GET /tides', freshFor: '1 day' } } },
      },
    })
    for (const name of ['call', 'upstream'] as const) labelling.on(name, ({ label, how }) => void heard.push([name, label, how]))
    const importing = labelling.calling({ label: 'nightly import' })
    const asking = [
      importing.fetch(url),
      importing.fetch(url),
      labelling.fetch(url),
      importing.fetch(`${url}?x`, { headers: { 'cache-control': 'only-if-cached' } }),
    ]
    const responses = await Promise.allSettled(asking)
    const outcomeOf = (one: PromiseSettledResult<Response>) => labelling.outcomeOf(one.status === 'fulfilled' ? one.value : one.reason)
    expect(responses.map(outcomeOf).map((outcome) => outcome?.label)).to.eql([
      'nightly import',
      'nightly import',
      undefined,
      'nightly import',
    ])
    const failing = labelling.operation('ebbline.find', async () => Promise.reject(new Error('gone'))).calling({ label: 'audit' })
    expect(labelling.outcomeOf(await failing().catch((error: unknown) => error))?.label).to.equal('audit')
    await labelling.report()
    expect(heard).to.deep.include(['upstream', 'nightly import', 'answered']).and.deep.include(['upstream', 'audit', 'failed'])
    expect(heard.filter((one) => (one as unknown[])[1] === 'nightly import')).to.have.length(4)
    expect(lines.filter((line) => line.includes('"label":"audit"'))).to.have.length(2)
    for (const [options, words] of [
      [{ label: '' }, 'is not a text of 1 to 100 characters'],
      [{ reload: 'yes' }, '"yes" is neither true nor false'],
      [{ relod: true }, 'did you mean "reload"'],
      [{ signal: 1 }, 'is not an AbortSignal'],
    ] as const)
      for (const wrong of [() => find.calling(options as never), () => stash.calling(options as never)]) expect(wrong).to.throw(words)
    expect(calls).to.equal(8)
  })

  it('calls once each for those who ask at once for what cannot be stored, all at the same time', async () => {
    class Vessel {}
    let [calls, under, most, expected] = [0, 0, 0, 19]
    let goOn = () => {}
    const gate = () =>
      new Promise<void>((resolve) => {
        goOn = resolve
      })
    let allAreUnderWay = gate()
    await using stash = await openStash({ warn() {} })
    const find = stash.operation(
      'skerrylight.find',
      async () => {
        calls++
        most = Math.max(most, ++under)
        if (under === expected) goOn()
        if (calls > 1) await allAreUnderWay
        under--
        return new Vessel()
      },
      rule,
    )
    const once = () => Promise.all(Array.from({ length: 20 }, () => find()))
    expect(new Set(await once()).size, 'nobody gets the instance of another').to.equal(20)
    expect([calls, most], 'the first alone, for nothing was known yet').to.eql([20, 19])
    ;[most, expected, allAreUnderWay] = [0, 20, gate()]
    await once()
    expect([calls, most]).to.eql([40, 20])
  })

  it('takes no promise for an answer of yes or no', async () => {
    const warnings: string[] = []
    const later = (async () => false) as never
    const baseUrl = 'https://tides.ebbline.example'
    const get = (path: string, more: object) => ({ request: `GET ${path}`, freshFor: '1 min', ...more }) as const
    await using stash = await openStash({
      warn: (message) => void warnings.push(message),
      fetch: async () => new Response('{}'),
      providers: {
        ebbline: {
          baseUrl,
          endpoints: {
            a: get('/a', { reuse: { exceptRequest: later } }),
            b: get('/b', { reuse: { exceptAnswer: later } }),
            c: get('/c', { failsWhen: later }),
            d: get('/d', { per: later }),
          },
        },
      },
    })
    let calls = 0
    const find = stash.operation('skerrylight.find', async () => ++calls, { ...rule, exceptArguments: later })
    expect([await find(), await find()]).to.eql([1, 2])
    for (const path of ['/a', '/b', '/c', '/d']) expect((await stash.fetch(baseUrl + path)).status, path).to.equal(200)
    expect(warnings).to.have.length(5)
    for (const option of ['exceptArguments', 'exceptRequest', 'exceptAnswer', 'failsWhen'])
      expect(
        warnings.some((one) => one.includes(`its "${option}" function returned a promise`)),
        option,
      ).to.equal(true)
  })

  it('waits for its code where that comes later, on the object that it is called on, and tries again where it does not come', async () => {
    await using stash = await openStash()
    const made: string[] = []
    class Vessel {
      constructor(readonly name: string) {}
    }
    const find = stash.operation(
      'skerrylight.find',
      async function (this: unknown, to: string) {
        made.push(to)
        return `${this instanceof Vessel ? this.name : 'nobody'} to ${to}`
      },
      { ...rule, keyedBy: (to) => to },
    )
    let tries = 0
    const later = operationLater({
      make: async () => {
        await new Promise((resolve) => setTimeout(resolve, 10))
        if (++tries <= 2) throw new Error('no network')
        return find
      },
      checkCallOptions: (options) => {
        if ('nope' in options) throw new TypeError('no such option')
      },
    })
    expect(await later('Pintle').catch(String), 'told to who calls').to.include('no network')
    expect(await later('Pintle').catch(String)).to.include('no network')
    expect(await Promise.all([later.call(new Vessel('Marram'), 'Pintle'), later('Pintle')])).to.eql([
      'Marram to Pintle',
      'Marram to Pintle',
    ])
    const vessel = Object.assign(new Vessel('Heron'), { find: later })
    expect(await vessel.find('Skerry')).to.equal('Heron to Skerry')
    expect((await later.withOutcome('Skerry')).outcome).to.include({ how: 'hit' })
    expect(await later.explain('Skerry')).to.include({ would: 'serve' })
    expect((await later.put(['Kelp'], 'put')).stored).to.equal(true)
    expect(await later('Kelp')).to.equal('put')
    expect(await later.warm([['Buoy'], ['Kelp']])).to.include({ stored: 1, fresh: 1 })
    expect(await later.calling({ reload: true })('Buoy')).to.equal('nobody to Buoy')
    expect(() => later.calling({ nope: 1 } as never), 'at once').to.throw('no such option')
    expect(made).to.eql(['Pintle', 'Skerry', 'Buoy', 'Buoy'])
    await stash.close()
    expect(await later('Pintle').catch((error) => error.code)).to.equal('STASH_CLOSED')
  })
})

/** Without -0 and names that JSON itself would change. */
function asJson(args: unknown[]): unknown[] {
  return JSON.parse(JSON.stringify(args)) as unknown[]
}
