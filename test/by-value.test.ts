import { createServer, type IncomingMessage } from 'node:http'
import type { AddressInfo } from 'node:net'
import { setImmediate as turn } from 'node:timers/promises'
import { inspect } from 'node:util'
import { expect } from 'chai'
import { memoryStore, openStash, type Stash, type StashConfig, type Store } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { sqliteStore } from 'stashen/sqlite'
import { temporaryFolder } from './support/files.js'
import { noon } from './support/upstream.js'
import { asynchronousStore, wrappedStore } from './support/wrapped-store.js'

type Body = NonNullable<RequestInit['body']>
type Arguments = readonly [input: Parameters<typeof fetch>[0], init?: RequestInit]

/** Arguments of `fetch`, and what their caller does to them afterwards. */
interface Changing {
  readonly call: Arguments
  readonly change: () => unknown
}

/** Every argument of `fetch` that can be changed. */
const requests: Record<string, (url: string) => Changing> = {
  'a URL object': (url) => {
    const asked = new URL(url)
    return { call: [asked], change: () => asked.searchParams.set('page', '2') }
  },
  'an object that shows itself as a URL': (url) => {
    const asked = { page: 1, toString: () => `${url}?page=${asked.page}` }
    return { call: [asked as unknown as string], change: () => asked.page++ }
  },
  'a Headers object': (url) => withFields(url, new Headers({ 'x-crew': 'marram' }), (fields) => fields.set('x-crew', 'sandwort')),
  'fields in an object': (url) => withFields(url, { 'x-crew': 'marram' }, (fields) => Object.assign(fields, { 'x-crew': 'sandwort' })),
  'fields in pairs': (url) => withFields(url, [['x-crew', 'marram']] as [string, string][], (fields) => fields.push(['x-berth', 'north'])),
  'the value of a field': (url) => {
    const value = ['marram']
    return withFields(url, { 'x-crew': value as unknown as string }, () => value.push('sandwort'))
  },
  'the members of init': (url) => {
    const init: RequestInit = { method: 'POST', body: 'first', headers: { 'x-crew': 'marram' } }
    return { call: [url, init], change: () => Object.assign(init, { method: 'PUT', body: 'second', headers: { 'x-crew': 'sandwort' } }) }
  },
  'a Request in place of init': (url) => {
    const init = new Request(url, { method: 'PUT', headers: { 'x-crew': 'marram' } })
    return { call: [`${url}?page=3`, init], change: () => init.headers.set('x-crew', 'sandwort') }
  },
  'the fields of a Request': (url) => {
    const request = new Request(url, { headers: { 'x-crew': 'marram' } })
    return { call: [request], change: () => request.headers.set('x-crew', 'sandwort') }
  },
  'the body of a Request': (url) => {
    const request = new Request(url, { method: 'POST', body: 'kelp' })
    return { call: [request], change: () => request.text().catch(() => undefined) }
  },
  'the body of a Request that init replaces': (url) => {
    const body = new Uint8Array([65, 66])
    return { call: [new Request(url, { method: 'POST', body: 'kelp' }), { body }], change: () => body.fill(90) }
  },
  ...Object.fromEntries(
    [Uint8Array, Buffer, DataView, ArrayBuffer].map((Kind) => [
      `a body in a ${Kind.name}`,
      (url: string) => {
        const bytes = new Uint8Array([65, 66, 67, 68])
        const { buffer } = bytes
        const body = Kind === Buffer ? Buffer.from(buffer) : Kind === ArrayBuffer ? buffer : new (Kind as typeof DataView)(buffer)
        return withBody(url, body as Body, () => bytes.fill(90))
      },
    ]),
  ),
  'URLSearchParams as body': (url) => {
    const body = new URLSearchParams({ crew: 'marram' })
    return withBody(url, body, () => body.set('crew', 'sandwort'))
  },
  'a form as body': (url) => {
    const body = new FormData()
    body.set('crew', 'marram')
    return withBody(url, body, () => body.set('crew', 'sandwort'))
  },
  'a body that shows itself as text': (url) => {
    const body = { crew: 'marram', toString: () => `crew ${body.crew}` }
    return withBody(url, body as unknown as string, () => Object.assign(body, { crew: 'sandwort' }))
  },
}

function withFields<F extends RequestInit['headers']>(url: string, headers: F, change: (fields: F) => unknown): Changing {
  return { call: [url, { headers }], change: () => change(headers) }
}

function withBody(url: string, body: Body, change: () => unknown): Changing {
  return { call: [url, { method: 'POST', body }], change }
}

/** When arguments are changed that a call was given. */
const moments: Record<string, (change: () => unknown) => Promise<unknown>> = {
  'in the same tick': async (change) => change(),
  'in the next': async (change) => {
    await undefined
    return change()
  },
  'while the look-up waits': async (change) => {
    await turn()
    return change()
  },
}

/** A server that says what it was sent, and a memory store that finds nothing before it is let. */
async function echoes(play: (base: string) => Promise<void>): Promise<void> {
  const server = createServer(async (request: IncomingMessage, response) => {
    const chunks: Buffer[] = []
    for await (const chunk of request) chunks.push(chunk as Buffer)
    const boundary = /boundary=(\S+)/.exec(request.headers['content-type'] ?? '')?.[1] ?? '\0'
    const body = Buffer.concat(chunks).toString('latin1').replaceAll(boundary, '')
    response.end(JSON.stringify({ method: request.method, url: request.url, crew: request.headers['x-crew'], body }))
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  try {
    await play(`http://127.0.0.1:${(server.address() as AddressInfo).port}`)
  } finally {
    server.closeAllConnections()
    server.close()
  }
}

/** A memory store in which everything is looked up as late as a far one would. */
function lateStore(): Store {
  return wrappedStore(memoryStore(), async (name, work) => {
    if (name === 'entries.get') for (let i = 0; i < 3; i++) await turn()
    return work()
  })
}

describe('arguments', () => {
  const rules: Record<string, Pick<StashConfig, 'mode'> & { path: string }> = {
    'under a rule': { path: '/tides' },
    'under a rule that stores nothing': { path: '/notes' },
    'that no rule covers': { path: '/other' },
    'while measuring': { path: '/tides', mode: 'measure' },
  }
  for (const [rule, { path, mode }] of Object.entries(rules)) {
    it(`of fetch are sent as they were when it was called, ${rule}`, () =>
      echoes(async (base) => {
        const keyedBy = { headers: ['x-crew'] }
        const tides = { freshFor: '1 hour', keyedBy, safe: true } as const
        const endpoints = [
          { name: 'tides', request: 'GET /tides', ...tides, safe: false },
          { name: 'ask', request: 'POST /tides', ...tides },
          { name: 'notes', request: 'GET /notes' },
          { name: 'note', request: 'POST /notes', per: () => 'crew', countBy: 'per' as const },
        ]
        for (const [kind, make] of Object.entries(requests)) {
          for (const [moment, later] of Object.entries(moments)) {
            await using stash = await openStash({
              store: lateStore(),
              ...(mode && { mode }),
              providers: { ebbline: { baseUrl: base, endpoints } },
            })
            const sent = async (by: typeof fetch, isChanged = true) => {
              const { call, change } = make(`${base}${path}`)
              const answer = by(...call)
              if (isChanged) await later(change)
              return (await answer).json()
            }
            const plain = await sent(fetch)
            expect(await sent(stash.fetch), `${kind} ${moment}`).to.eql(plain)
            expect(await sent(stash.fetch, false), `${kind} ${moment}, afterwards`).to.eql(plain)
          }
        }
      }))
  }

  it('of operations are those of the call, whatever becomes of them', async () => {
    class Berth {
      constructor(public name: string) {}
    }
    const kinds: Record<string, () => [args: unknown[], change: () => unknown]> = {
      'an object': () => changed({ crew: { name: 'marram' } }, (value) => Object.assign(value.crew, { name: 'sandwort' })),
      'an array': () => changed([1, [2]], (value) => value.push(3)),
      'a date': () => changed(new Date(5), (value) => value.setTime(6)),
      'a map': () => changed(new Map([['a', { b: 1 }]]), (value) => value.set('c', { b: 2 })),
      'a set': () => changed(new Set([1]), (value) => value.add(2)),
      'a typed array': () => changed(new Float64Array([1, 2]), (value) => value.fill(9)),
      'a buffer': () => changed({ at: Buffer.from('kelp') }, (value) => value.at.fill(0)),
      'an ArrayBuffer': () => changed(new Uint8Array([1]).buffer, (value) => new Uint8Array(value).fill(9)),
      'a cycle beside what "keyedBy" takes': () => {
        const value: { id: number; self?: unknown } = { id: 1 }
        value.self = value
        return changed(value, () => Object.assign(value, { id: 2 }))
      },
    }
    for (const mode of ['on', 'measure'] as const) {
      for (const [kind, make] of Object.entries(kinds)) {
        for (const [moment, later] of Object.entries(moments)) {
          await using stash = await openStash({ store: lateStore(), ...(mode === 'measure' && { mode }) })
          const bare = async (...args: unknown[]) => inspect(args, { depth: 9 })
          const keyedBy = kind.includes('keyedBy') ? { keyedBy: (value: { id: number }) => value.id } : {}
          const find = stash.operation('skerrylight.find', bare, { freshFor: '1 hour', ...keyedBy } as object)
          const [args, change] = make()
          const plain = await bare(...args)
          const value = find(...args)
          await later(change)
          expect(await value, `${kind} ${moment}`).to.equal(plain)
          expect(await find(...make()[0]), `${kind} ${moment}, afterwards`).to.equal(plain)
        }
      }
    }
    const warnings: string[] = []
    await using stash = await openStash({ store: lateStore(), warn: (said) => void warnings.push(said) })
    const find = stash.operation('skerrylight.berth', async (berth: Berth) => berth.name, {
      freshFor: '1 hour',
      keyedBy: (berth) => berth.name,
    })
    const berth = new Berth('north')
    const [first, second] = [find(berth), find(new Berth('north'))]
    berth.name = 'south'
    expect([await first, await second, await find(new Berth('north'))], 'what cannot be copied is not stored').to.eql([
      'south',
      'north',
      'north',
    ])
    expect(warnings.join()).to.match(/results of skerrylight.berth are not stored: an argument was changed while its call waited/)
  })

  it("of a configuration and of an operation's options are those of the moment they were given", async () => {
    const endpoints: Record<string, { request: string; freshFor?: string }> = { tides: { request: 'GET /tides', freshFor: '1 hour' } }
    const opening = openStash({
      store: lateStore(),
      fetch: async () => new Response(String(++calls)),
      providers: { ebbline: { baseUrl: 'https://tides.ebbline.example', endpoints } },
    })
    let calls = 0
    delete (endpoints.tides as { freshFor?: string }).freshFor
    await using stash = await opening
    const options = { freshFor: '1 hour', labels: ['berths'] }
    const find = stash.operation('ebbline.find', async () => ++calls, options)
    options.labels.push('others')
    for (let i = 0; i < 2; i++) expect(await (await stash.fetch('https://tides.ebbline.example/tides')).text()).to.equal('1')
    expect([await find(), await find()]).to.eql([2, 2])
    await stash.invalidate({ label: 'others' })
    expect(await find()).to.equal(2)
  })
})

/** A value that is changed after it was handed over. */
function changed<T>(value: T, change: (value: T) => unknown): [args: unknown[], change: () => unknown] {
  return [[value], () => change(value)]
}

describe('a value from store', () => {
  const file = temporaryFolder()
  const stores: Record<string, () => Store> = {
    memory: () => memoryStore(),
    'a store that takes its time': () => asynchronousStore(),
    'an SQLite file': () => sqliteStore(file('values.db')),
  }
  for (const [name, open] of Object.entries(stores)) {
    it(`shares no memory with ${name}, nor with another receiver`, async () => {
      const values: (() => object)[] = [
        () => new Uint8Array([1, 2, 3]),
        () => Buffer.from(Uint8Array.from([1, 2, 3, 4]).buffer), // with memory of its own, not of those that Node gives out
        () => ({ at: [new Float64Array([1, 2]), new Uint8Array(new Uint8Array([9, 8, 7, 6]).buffer, 1, 2)] }),
        () => new Map([['a', new Int16Array([5])]]),
        () => ({ list: [{ deep: [1] }], when: new Date(7) }),
      ]
      await using stash = await openStash({ store: open() })
      const find = stash.operation('skerrylight.bytes', async (i: number) => values[i]?.(), { freshFor: '1 hour' })
      for (const [i, value] of values.entries()) {
        const plain = inspect(value(), { depth: 9 })
        for (const receivers of [await Promise.all([find(i), find(i), find(i)]), [await find(i), await find(i)]]) {
          for (const got of receivers) {
            expect(inspect(got, { depth: 9 })).to.equal(plain)
            scribbleOver(got)
          }
        }
      }
      const http = await openHttp(open())
      for (let i = 0; i < 3; i++) {
        const bytes = new Uint8Array(await (await http.fetch('https://tides.ebbline.example/tides')).arrayBuffer())
        expect([...bytes]).to.eql([1, 2, 3])
        bytes.fill(0)
        const reader = (await http.fetch('https://tides.ebbline.example/tides')).body?.getReader()
        const { value } = (await reader?.read()) ?? {}
        expect([...(value ?? [])]).to.eql([1, 2, 3])
        value?.fill(0)
      }
      await http.close()
    })
  }

  function openHttp(store: Store): Promise<Stash> {
    const fetch = async () => new Response(new Uint8Array([1, 2, 3]))
    const endpoints = { tides: { request: 'GET /tides', freshFor: '1 hour' } }
    return openStash({ store, fetch, providers: { ebbline: { baseUrl: 'https://tides.ebbline.example', endpoints } } })
  }

  it('is never an instance of a class made from a built-in one, by value or by argument, with advice once', async () => {
    const warnings: string[] = []
    await using stash = await openStash({ warn: (said) => void warnings.push(said) })
    const list = [class extends Array {}, class extends Map {}, class extends Set {}, class extends Date {}, class extends Error {}]
    const named = [Uint8Array, Buffer, Map].map((Kind) => {
      const Made = class extends (Kind === Buffer ? Uint8Array : (Kind as typeof Uint8Array)) {}
      return Object.defineProperty(Made, 'name', { value: Kind.name })
    })
    for (const [i, Kind] of [...list, ...named].entries()) {
      const make = () => new (Kind as new () => object)()
      const find = stash.operation(`skerrylight.kind${i}`, async (_?: unknown) => make(), { freshFor: '1 hour' })
      for (let again = 0; again < 2; again++) {
        const { value, outcome } = await find.withOutcome()
        expect(value).to.be.instanceOf(Kind as never)
        expect(outcome, `${i}`).to.include({ how: 'forwarded', stored: false, notStored: 'inexact' })
      }
      expect(await find(make()).catch((error: { code: string }) => error.code), `${i}`).to.equal('ARGUMENTS_UNKEYABLE')
      expect(warnings.splice(0).join('\n')).to.match(/values of skerrylight\.kind\d are passed on and not stored: .*"toPlain"[^\n]*$/)
    }
  })
})

function scribbleOver(value: unknown): void {
  if (value instanceof ArrayBuffer) new Uint8Array(value).fill(255)
  else if (ArrayBuffer.isView(value)) new Uint8Array(value.buffer).fill(255)
  else if (value instanceof Date) value.setTime(0)
  else if (value instanceof Map) for (const one of value.values()) scribbleOver(one)
  else if (typeof value === 'object' && value !== null) {
    for (const one of Object.values(value)) scribbleOver(one)
    Object.assign(value, { scribbled: true })
  }
}

describe('a wrapped function', () => {
  it('that calls itself with the same arguments gets its result, by whatever way it gets there', async () => {
    const ways: Record<string, (again: () => Promise<string>) => Promise<string>> = {
      'at once': (again) => again(),
      'after it waited': async (again) => {
        await turn()
        return `${await again()}`
      },
      'in a chain': (again) => turn().then(again),
      'among others': async (again) => (await Promise.all([turn(), again()]))[1],
      'through another': async (again) => through(again),
    }
    let through: (again: () => Promise<string>) => Promise<string> = (again) => again()
    for (const store of [memoryStore, asynchronousStore]) {
      await using stash = await openStash({ store: store() })
      through = stash.operation('skerrylight.through', async (again: () => Promise<string>) => again(), {
        keyedBy: () => 1,
        freshFor: '1 s',
      })
      for (const [i, [way, call]] of Object.entries(ways).entries()) {
        let depth = 0
        const find = stash.operation(
          `skerrylight.again${i}`,
          async (name: string): Promise<string> => (++depth < 3 ? call(() => find(name)) : `${name} ${depth}`),
          { freshFor: '1 hour' },
        )
        expect(await Promise.all([find('Marram'), find('Marram')]), way).to.eql(['Marram 3', 'Marram 3'])
        expect([await find('Marram'), depth]).to.eql(['Marram 3', 3])
      }
    }
  })

  it('may take as long as it takes, and is typed as what it returns', async () => {
    const clock = new FastClock(noon)
    await using stash = await openStash({ clock, providers: { skerrylight: { limits: [{ atOnce: 1 }] } } })
    let calls = 0
    const sdk = {
      get: async (_query: string) => {
        await clock.sleep(40_000)
        return { data: { calls: ++calls } }
      },
    }
    const find = stash.operation('skerrylight.find', (query: string) => sdk.get(query).then((answer) => answer.data), { freshFor: '1 day' })
    const loose = stash.operation('skerrylight.loose', (query) => sdk.get(query).then((answer) => answer.data))
    const value: { calls: number } = await clock.run(find('Marram'))
    const other: { calls: number } = await clock.run(loose('Marram'))
    expect([value, other, await find('Marram')]).to.eql([{ calls: 1 }, { calls: 2 }, { calls: 1 }])
  })
})
