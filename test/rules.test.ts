import { expect } from 'chai'
import { ArgumentsUnkeyableError } from '../src/core/errors/call-errors.js'
import { argumentKey } from '../src/core/rules/argument-key.js'
import { compileCredentials } from '../src/core/rules/credentials.js'
import { compileFailure, isBrokenJson } from '../src/core/rules/failure.js'
import { compileFreshness, freshFromUseMs, freshUntilOf, longestFreshMs } from '../src/core/rules/freshness.js'
import { atPointer } from '../src/core/rules/json-pointer.js'
import { compileKeying, type KeyedRequest, type KeyingOptions } from '../src/core/rules/keying.js'
import { isPlainData } from '../src/core/rules/plain-data.js'
import { fieldInKey, leftOut, requestKey } from '../src/core/rules/request-key.js'
import { areTied, differences, parseRequestTemplate } from '../src/core/rules/request-template.js'
import { sentRequest } from '../src/core/rules/sent-request.js'
import { unitsOf, unitsUpTo } from '../src/core/rules/units.js'
import { nextPublication } from '../src/core/time/next-publication.js'
import { mayUseReceiver } from '../src/engine/operation/receiver.js'
import { noon } from './support/upstream.js'

const answer = (json: unknown, fields: Record<string, string> = {}) => ({
  status: 200,
  header: (name: string) => fields[name] ?? null,
  json: () => {
    if (json === undefined) throw new Error('no JSON')
    return json
  },
  text: () => '',
  events: () => [],
})

describe('rules, each by itself', () => {
  it('a template is a method, a path with whole segments, and fixed query values', () => {
    // biome-ignore format: many words a line
    const rows: [text: string, isOne: boolean][] = [
      ['GET /', true], ['GET /tides/{day}', true], ['GET /tides/*', true], ['POST /graphql?op=tides&n=1', true], ['GET /*/tides', false],
      ['GET /tides/{day', false], ['GET /tides/a{day}', false], ['GET /tides/a*', false], ['GET tides', false], ['get /tides', false],
      ['GET  /tides', false], ['GET /tides?', false], ['GET /tides#now', false], [' GET /tides', false], ['GET /tides ', false],
      ['GET /ti des', false]
    ]
    for (const [text, isOne] of rows) expect(parseRequestTemplate(text) !== undefined, text).to.equal(isOne)
    expect(parseRequestTemplate('GET /a/{b}/*?c=d&c=e')).to.eql({
      method: 'GET',
      path: [{ kind: 'literal', text: 'a' }, { kind: 'any', name: 'b' }, { kind: 'rest' }],
      query: [
        ['c', 'd'],
        ['c', 'e'],
      ],
    })
  })

  it('a request differs from a template in what is told', () => {
    const told = (text: string, method: string, path: string, query = '') => {
      const template = parseRequestTemplate(text)
      return template && differences(template, method, path.split('/'), new URLSearchParams(query))
    }
    expect(told('GET /a/{b}', 'GET', 'a/1')).to.eql([])
    expect(told('GET /a/{b}', 'POST', 'a')).to.eql(['method is POST, not GET', 'path has 1 segments, not 2'])
    expect(told('GET /a/b', 'GET', 'a')).to.eql(['path has 1 segments, not 2'])
    expect(told('GET /a/*', 'GET', 'a/1/2')).to.eql([])
    expect(told('GET /a/*', 'GET', 'a')).to.eql(['path has 1 segments, not at least 2'])
    expect(told('GET /a/{b}', 'GET', 'x/1/2')).to.eql(['path has 3 segments, not 2', 'segment 1 is "x", not "a"'])
    expect(told('GET /a?b=c', 'GET', 'a', 'b=c&d=e')).to.eql([])
    for (const query of ['', 'b=d', 'b=c&b=c']) expect(told('GET /a?b=c', 'GET', 'a', query), query).to.eql(['query has no single b=c'])
    // biome-ignore format: many words a line
    const rows: [one: string, other: string, tied: boolean][] = [
      ['GET /a/{b}', 'GET /a/{c}', true], ['GET /a/{b}', 'GET /a/*', false], ['GET /a/b', 'GET /a/{b}', false],
      ['GET /a/b', 'GET /a/c', false], ['GET /a', 'POST /a', false], ['GET /a?b=c', 'GET /a', false], ['GET /a?b=c', 'GET /a?b=d', false],
      ['GET /a?b=c', 'GET /a?d=e', true], ['GET /a?b=c&d=e', 'GET /a?b=c&d=f', false]
    ]
    for (const [one, other, tied] of rows) {
      const [a, b] = [parseRequestTemplate(one), parseRequestTemplate(other)]
      expect(a && b && areTied(a, b), `${one} and ${other}`).to.equal(tied)
    }
  })

  it('a pointer names what an object has itself', () => {
    const whole = { a: [1, { b: null }], 'c/d': 2, 'e~f': 3, '': 4, g: 'text' }
    // biome-ignore format: many words a line
    const rows: [pointer: string, found: unknown][] = [
      ['', whole], ['/', 4], ['/a/0', 1], ['/a/1/b', null], ['/a/1/b/c', undefined], ['/a/2', undefined], ['/c~1d', 2], ['/e~0f', 3],
      ['/g/length', undefined], ['/g/0', undefined], ['/toString', undefined], ['/a/length', 2]
    ]
    for (const [pointer, found] of rows) expect(atPointer(whole, pointer), pointer).to.equal(found)
  })

  it('an answer fails by what it says, and not where it says nothing', () => {
    const fails = (options: Parameters<typeof compileFailure>[0], json: unknown) => compileFailure(options).test?.(answer(json))
    expect(compileFailure({ statuses: [404] })).to.eql({ statuses: new Set([404]), test: undefined })
    for (const [value, failed] of [
      ['broken', true],
      [0, true],
      ['', true],
      [true, true],
      [false, false],
      [null, false],
      [undefined, false],
    ] as const)
      expect(fails({ at: '/error' }, value === undefined ? {} : { error: value }), String(value)).to.equal(failed)
    expect(fails({ at: '/error' }, undefined), 'no JSON').to.equal(false)
    expect([fails({ at: '/ok', is: false }, { ok: false }), fails({ at: '/ok', is: false }, { ok: true })]).to.eql([true, false])
    expect([fails({ at: '/ok', is: null }, { ok: null }), fails({ at: '/ok', is: null }, {})]).to.eql([true, false])
    const bytes = (text: string) => new TextEncoder().encode(text)
    const rows: [type: string | null, body: string, broken: boolean][] = [
      ['application/json', '{', true],
      ['application/json', '{}', false],
      ['application/json', '', false],
      ['Application/Problem+JSON; charset=utf-8', '{', true],
      ['application/json-seq', '{', false],
      ['text/plain', '{', false],
      [null, '{', false],
    ]
    for (const [type, body, broken] of rows) expect(isBrokenJson(type, bytes(body)), `${type} ${body}`).to.equal(broken)
  })

  it('freshness is for a time, until a publication, or as a function says', () => {
    const at = (options: Parameters<typeof compileFreshness>[0], json: unknown = {}) => {
      const freshness = compileFreshness(options, nextPublication)
      return freshness && freshUntilOf(freshness, 'key', answer(json), noon) - noon
    }
    expect(at({})).to.equal(undefined)
    expect(at({ freshFor: '1 min' })).to.equal(60_000)
    expect(at({ freshUntil: { daily: '13:00', zone: 'UTC' }, freshFor: '1 ms' })).to.equal(3_600_000)
    expect(at({ freshFor: ({ json }) => (json() as { for: string }).for }, { for: '5 ms' })).to.equal(5)
    expect(() => at({ freshFor: () => undefined as never })).to.throw('function returned nothing: it has to be a number and a unit')
    const jittered = at({ freshFor: '1 min', jitter: 0.5 })
    expect(jittered).to.be.within(30_000, 60_000)
    expect(freshFromUseMs(compileFreshness({ freshFor: '1 min', jitter: 0.5 }), 'key')).to.equal(jittered)
    expect(freshFromUseMs(compileFreshness({ freshFor: () => '5 ms' }), 'key')).to.equal(undefined)
    const spread = Array.from({ length: 400 }, (_, i) => freshFromUseMs(compileFreshness({ freshFor: '1 s', jitter: 1 }), `key ${i}`) ?? 0)
    for (const from of [0, 250, 500, 750])
      expect(spread.filter((ms) => ms >= from && ms < from + 250).length, `from ${from} ms on`).to.be.within(70, 130)
    // biome-ignore format: many words a line
    const longest: [freshness: Parameters<typeof compileFreshness>[0], others: number[], ms: number | undefined][] = [
      [{}, [], undefined], [{}, [0], undefined], [{}, [1], 1], [{ freshFor: 0 }, [], 0], [{ freshFor: '5 ms' }, [3], 5],
      [{ freshFor: '5 ms' }, [7], 7], [{ freshFor: () => '1 ms' }, [7], Number.POSITIVE_INFINITY],
      [{ freshUntil: { daily: '13:00', zone: 'UTC' } }, [], Number.POSITIVE_INFINITY]
    ]
    for (const [options, others, ms] of longest)
      expect(longestFreshMs(compileFreshness(options, nextPublication), others), JSON.stringify([options, others])).to.equal(ms)
  })

  it('units are numbers from 0 on, wherever they stand', () => {
    // biome-ignore format: many words a line
    const rows: [source: Parameters<typeof unitsOf>[0], json: unknown, units: unknown][] = [
      [undefined, { n: 1 }, undefined], [{ t: { at: '/n' } }, { n: 3 }, { t: 3 }], [{ t: { at: '/n' } }, { n: '3.5' }, { t: 3.5 }],
      [{ t: { at: '/n' } }, { n: 0 }, { t: 0 }], [{ t: { at: '/n' } }, { n: -1 }, undefined],
      [{ t: { at: '/n' } }, { n: '1e999' }, undefined], [{ t: { at: '/n' } }, { n: [3] }, undefined],
      [{ t: { at: '/n' } }, undefined, undefined], [{ t: { header: 'x-tokens' }, u: { at: '/n' } }, { n: 2 }, { t: 9, u: 2 }],
      [{ t: { header: 'x-none' } }, {}, undefined], [{ t: () => 4 }, {}, { t: 4 }], [{ t: () => Number.NaN }, {}, undefined]
    ]
    for (const [source, json, units] of rows) expect(unitsOf(source, answer(json, { 'x-tokens': '9' })), JSON.stringify(json)).to.eql(units)
    expect(unitsUpTo({ a: { at: '/n', upTo: 5 }, b: { at: '/n' }, c: () => 1, d: { header: 'x', upTo: 0 } })).to.eql({ a: 5, d: 0 })
    expect(unitsUpTo(undefined)).to.eql({})
  })

  it('plain data is what JSON gives back as it was', () => {
    const cycle: unknown[] = []
    cycle.push(cycle)
    const twice = { a: 1 }
    // biome-ignore format: many words a line
    const rows: [value: unknown, plain: boolean][] = [
      [null, true], ['a', true], [1.5, true], [-0, false], [Number.NaN, false], [undefined, false], [1n, false],
      [{ a: [1, { b: true }] }, true], [Object.create(null), true], [[twice, twice], true], [{ a: undefined }, false],
      [{ [Symbol('a')]: 1 }, false], [Object.assign([1], { [Symbol('a')]: 1 }), false], [Object.assign([1], { extra: 1 }), false],
      [new Array(2), false], [[1, undefined], false], [new Date(0), false], [new Map(), false], [new (class Own {})(), false],
      [() => 1, false], [cycle, false]
    ]
    for (const [i, [value, plain]] of rows.entries()) expect(isPlainData(value), `row ${i}`).to.equal(plain)
  })

  it('a key is made of what the rule names, credentials by digest', () => {
    const provider = { credentials: compileCredentials({ secretQuery: ['pin'], secretHeaders: ['X-Client'] }), caller: undefined }
    const key = (options: KeyingOptions, url: string, fields: Record<string, string> = {}, more: Partial<KeyedRequest> = {}) => {
      const keying = compileKeying({ provider: 'ebbline', name: 'tides' }, options)
      const header = (name: string) => fields[name] ?? null
      return requestKey(
        provider,
        keying,
        sentRequest({ method: 'GET', url: new URL(url), header, fields: Object.entries(fields), ...more }),
      )
    }
    const base = 'https://tides.ebbline.example/v2/tides'
    expect(key({}, base)).to.include(`GET ${base}`).and.not.include('?')
    expect(key({}, `${base}?b=2&a=1#now`))
      .to.include(`GET ${base}?a=1&b=2`)
      .and.not.include('now')
    expect(key({}, `${base}?b=2&a=1`)).to.equal(key({}, `${base}?a=1&b=2`))
    expect(key({}, `${base}?a=1&a=2`)).to.not.equal(key({}, `${base}?a=2&a=1`))
    expect(key({}, `${base}?c=1&b=1&a=1`)).to.include('?a=1&b=1&c=1')
    expect(key({}, `${base}?a=1&key=k1`)).to.match(/\?a=1 .*caller:[0-9a-f]{64}$/)
    expect(key({ shared: true }, `${base}?pin=k1`)).to.equal(key({ shared: true }, `${base}?pin=k2`))
    expect(key({ shared: true }, `${base}?key=k1`), 'which may be data').to.not.equal(key({ shared: true }, `${base}?key=k2`))
    expect(key({ keyedBy: { query: ['a'] } }, `${base}?a=1&b=2`)).to.equal(key({ keyedBy: { query: ['a'] } }, `${base}?b=3&a=1`))
    expect(key({ keyedBy: { headers: ['Accept-Language', 'X-Unit'] } }, base, { 'accept-language': 'nb' }))
      .to.include(' accept-language:"nb"')
      .and.include(' x-unit:null')
    expect(key({ version: 3, per: () => 'north' }, base))
      .to.include(' version:3')
      .and.include(' per:"north"')
    for (const name of ['authorization', 'x-client']) {
      const [one, other, none] = [key({}, base, { [name]: 'abc' }), key({}, base, { [name]: 'abd' }), key({}, base)]
      expect(new Set([one, other, none]).size, name).to.equal(3)
      expect(one, name).to.not.include('abc')
      expect(fieldInKey(name, 'abc'), name).to.match(/^[0-9a-f]{64}$/)
    }
    expect([fieldInKey('accept', 'a'), fieldInKey('x-unit-version', '2'), fieldInKey('x-token', null)]).to.eql(['a', '2', null])
    const left = (options: KeyingOptions) =>
      leftOut(provider, compileKeying({ provider: 'ebbline', name: 'tides' }, options), new URL(`${base}?a=1&key=k&b=2&b=3`))
    expect(left({})).to.eql(['key'])
    expect(left({ keyedBy: { query: ['a'] } })).to.eql(['b', 'key'])
    expect(left({ keyedBy: { query: { except: ['a'] } } })).to.eql(['a', 'key'])
    expect(left({ keyedBy: () => '1 ms' })).to.eql(['a', 'b', 'key'])
  })

  it('arguments are told apart by all that they hold, or have no key', () => {
    const owner = { provider: 'skerrylight', name: 'find', prefix: 'skerrylight.find' }
    const nested = (depth: number) => Array.from({ length: depth }).reduce<unknown>((inner) => [inner], 1)
    const keyed: unknown[] = [
      ...[null, undefined, '', 'null', 0, -0, 1, '1', 1n, true, Number.NaN, Number.POSITIVE_INFINITY, '\ud800', '\ud801'],
      ...[[], [[]], new Array(1), [undefined], [null], new Array(2), {}, { a: undefined }, { a: null }, { a: 1 }, { a: '1' }, { a: [1] }],
      ...[new Date(0), new Date(1), new Date(Number.NaN), new Set(), new Set([1]), new Set(['1']), new Map(), new Map([[1, 2]])],
      ...[new Map([['1', 2]]), new Set([[1, 2]]), new Set([1, 2]), new Set([2, 1]), new Uint8Array(1), new Uint8Array(2), new Int8Array(1)],
      ...[new ArrayBuffer(1), new DataView(new ArrayBuffer(1)), Buffer.from([1]), new Float32Array(1), nested(20), nested(21), nested(499)],
      ...[JSON.parse('{"__proto__":1}'), JSON.parse('{"toString":1}'), { a: { b: 1 }, c: 2 }, { a: { b: 1, c: 2 } }],
    ]
    const keys = keyed.map((value) => argumentKey(owner, [value, 'end']))
    for (const [i, key] of keys.entries()) expect(keys.indexOf(key), `${key} stands for one value`).to.equal(i)
    expect(argumentKey(owner, [{ b: 1, a: new Date(5) }])).to.equal(argumentKey(owner, [{ a: new Date(5), b: 1 }]))
    expect(argumentKey(owner, [Object.create(null)])).to.equal(argumentKey(owner, [{}, undefined]))
    const cycle: unknown[] = []
    cycle.push([cycle])
    const unreadable = () => {
      throw new Error('nobody may look')
    }
    // biome-ignore format: many words a line
    const unkeyable: [value: unknown, what: string][] = [
      [Object.assign([1], { a: 1 }), 'an array with members besides its items'], [/a/.exec('a'), 'an array with members besides its items'],
      [Object.defineProperty({}, 'a', { value: 1 }), 'members that do not show'],
      [Object.defineProperty([1], '0', { get: () => '1 ms' }), 'a getter'],
      [Object.defineProperty({}, 'a', { get: () => 1, enumerable: true }), 'a getter'], [{ [Symbol('a')]: 1 }, 'symbols'],
      [Object.assign([1], { [Symbol('a')]: 1 }), 'symbols'], [new Proxy({}, { ownKeys: unreadable }), 'cannot be read'],
      [new Proxy([], { getPrototypeOf: unreadable, ownKeys: unreadable }), 'cannot be read'], [nested(501), 'nested more than 500 deep'],
      [nested(100_000), 'nested more than 500 deep'], [cycle, 'a part of itself'],
      [Object.assign(new Date(0), { a: 1 }), 'an instance of Date'], [Object.assign(Buffer.from([1]), { a: 1 }), 'an instance of Buffer'],
      [Object.create({ a: 1 }), 'an instance of'],
      [Object.create(Object.create(null, { a: { value: 1, enumerable: true } })), 'an instance of'],
      [new (Object.defineProperty(class extends Map {}, 'name', { value: 'Map' }))(), 'an instance of Map'], [/a/, 'an instance of RegExp'],
      [new String('a'), 'an instance of String'], [new Error('a'), 'an instance of Error'], [Symbol('a'), 'a symbol'],
      [() => 1, 'a function']
    ]
    for (const [value, what] of unkeyable)
      for (const args of [[value], [{ in: [value] }], [new Map([[value, 1]])]])
        expect(() => argumentKey(owner, args), what).to.throw(
          ArgumentsUnkeyableError,
          args[0] === value ? what : /nested|cannot|part|instance/,
        )
  })

  it('a function may use what it is called on, unless its source or its kind says otherwise', () => {
    // biome-ignore format: a row a line
    const rows: [fn: (...args: never[]) => unknown, may: boolean][] = [
      [async () => 1, false],
      [async (a: number) => a, false],
      [(a: number) => a, false],
      [async function find() { return 'this' }, false],
      [
        async function find() {
          /* this */ return 1 // nor this
        },
        false,
      ],
      [async function find(this: unknown) { return this }, true],
      [{ async find() { return this } }.find, true],
      [{ async find() { return 1 } }.find, false],
      [
        {
          async find() {
            return `${this}`
          },
        }.find,
        true,
      ],
      [{ async find() { return super.toString() } }.find, true],
      [async function find(this: unknown) { return this }.bind(1), false],
      [Array.prototype.at, true],
      [new Proxy(async () => 1, {}), true],
    ]
    for (const [i, [fn, may]] of rows.entries()) expect(mayUseReceiver(fn), `row ${i}`).to.equal(may)
  })
})
