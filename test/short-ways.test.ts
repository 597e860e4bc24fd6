import { expect } from 'chai'
import * as fc from 'fast-check'
import { type Entry, memoryStore, openStash, type Store } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import { temporaryFolder } from './support/files.js'
import { type RealUpstream, realUpstream } from './support/real-upstream.js'
import { scaled } from './support/scale.js'
import { json, scene, tides } from './support/upstream.js'
import { asynchronousStore, wrappedStore } from './support/wrapped-store.js'

/** What Node's types do not declare. */
interface WebAssemblyOfNode {
  compileStreaming(source: Promise<Response>): Promise<object>
  readonly Module: new () => object
}

const base = 'https://tides.ebbline.example/v2'

describe('an answer from store', () => {
  it('is a response that can be read, cloned and passed on as one of the runtime, in every order', async () => {
    const bodies = ['', '\uFEFF{"n":1}', '{"n":1}', 'no JSON', 'å€', '[1,2,3]']
    const steps = [
      'json',
      'text',
      'arrayBuffer',
      ...('bytes' in Response.prototype ? ['bytes'] : []),
      'blob',
      'clone',
      'used',
      'locked',
      'reader',
      'cancel',
      'passOn',
    ]
    let body = ''
    await using stash = await openStash({
      fetch: async () => new Response(body, { headers: { 'content-type': 'text/plain' } }),
      providers: { ebbline: { baseUrl: base, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } } },
    })
    await fc.assert(
      fc.asyncProperty(fc.constantFrom(...bodies), fc.array(fc.constantFrom(...steps), { maxLength: 5 }), async (text, all) => {
        body = text
        const url = `${base}/tides/${encodeURIComponent(text)}`
        await stash.fetch(url)
        const ours = await stash.fetch(url)
        expect(stash.outcomeOf(ours)?.how).to.equal('hit')
        expect(await played(ours, all)).to.eql(await played(new Response(text, { headers: ours.headers }), all))
      }),
      { numRuns: scaled(30) },
    )
  })

  it('lets timers and input run, however many are asked for one after the other', async () => {
    await using stash = await openStash({
      fetch: async () => new Response('{}'),
      providers: { ebbline: { baseUrl: base, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } } },
    })
    const find = stash.operation('ebbline.find', async (name: string) => name, { freshFor: '1 hour' })
    const ways: Record<string, () => Promise<unknown>> = {
      'by the short way': () => stash.fetch(`${base}/tides/1`),
      'by the long one': () => stash.fetch(`${base}/tides/1`, { headers: { 'cache-control': 'max-age=60' } }),
      'of an operation': () => find('Marram'),
      'with its outcome': () => find.withOutcome('Marram'),
    }
    for (const [way, ask] of Object.entries(ways)) {
      await ask()
      let isOver = false
      setTimeout(() => {
        isOver = true
      }, 1)
      let calls = 0
      for (; !isOver && calls < 200_000; calls++) await ask()
      expect(isOver, `${way}, after ${calls}`).to.equal(true)
    }
  })

  it('is taken by what takes a response: as its body and head, by WebAssembly, and as it is shown', async () => {
    const module = Uint8Array.from([0, 97, 115, 109, 1, 0, 0, 0])
    await using stash = await openStash({
      fetch: async () => new Response(module, { status: 203, statusText: 'Near', headers: { 'content-type': 'application/wasm' } }),
      providers: { ebbline: { baseUrl: base, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } } },
    })
    const get = () => stash.fetch(`${base}/tides/module`)
    for (const how of ['forwarded', 'hit']) {
      const ours = await get()
      expect(stash.outcomeOf(ours)?.how).to.equal(how)
      const passedOn = new Response(ours.body, ours)
      expect([passedOn.status, passedOn.statusText, passedOn.headers.get('content-type')]).to.eql([203, 'Near', 'application/wasm'])
      expect(new Uint8Array(await passedOn.arrayBuffer())).to.eql(module)
      expect([ours.bodyUsed, await get().then((one) => one.body?.constructor.name)]).to.eql([true, 'ReadableStream'])
    }
    const { compileStreaming, Module } = (globalThis as unknown as { WebAssembly: WebAssemblyOfNode }).WebAssembly
    expect(await compileStreaming(get())).to.be.instanceOf(Module)
    const changed = await get()
    changed.headers.set('content-type', 'application/x-tides')
    expect((await changed.clone().blob()).type).to.equal('application/x-tides')
    expect((await changed.blob()).type).to.equal('application/x-tides')
    const chunks: number[] = []
    for await (const chunk of (await get()).body as unknown as AsyncIterable<Uint8Array>) chunks.push(...chunk)
    expect(chunks).to.eql([...module])
  })

  it('is found by the URL, fields and options of its request: one with others has another, or none', async () => {
    const asked: string[] = []
    const fetch = async (input: unknown, init: RequestInit = {}) => {
      const headers = new Headers(init.headers ?? (input instanceof Request ? input.headers : {}))
      asked.push(headers.get('accept') ?? headers.get('authorization') ?? '')
      return new Response(JSON.stringify(asked.length))
    }
    const one: { request: string; freshFor: string } = { request: 'GET /tides/{id}', freshFor: '1 hour' }
    await using stash = await openStash({
      fetch: fetch as typeof globalThis.fetch,
      warn() {},
      providers: { ebbline: { baseUrl: base, endpoints: { tides: one, text: { ...one, request: 'GET /text/{id}', freshFor: '1 hour' } } } },
    })
    const url = `${base}/tides/1`
    const requests: [input: string | Request, init?: RequestInit][] = [
      [url],
      [url, { headers: { accept: 'a' } }],
      [url, { headers: { accept: 'a\n6:accept1:b' } }],
      [url, { headers: { authorization: 'Bearer pilot' } }],
      [url, { headers: { authorization: 'Bearer cook' } }],
      [url, { headers: new Headers({ accept: 'c' }) }],
      [new Request(url, { headers: { accept: 'd' } })],
      [`${url}\n6:accept1:a`],
    ]
    const answers = async () => {
      const found = await Promise.allSettled(requests.map(([input, init]) => stash.fetch(input, init)))
      return Promise.all(found.map((one) => (one.status === 'fulfilled' ? one.value.text() : 'none')))
    }
    const first = await answers()
    expect(new Set(first).size, 'one for each, but for the invalid field').to.equal(requests.length)
    expect(first[2]).to.equal('none')
    for (let again = 0; again < 2; again++) expect(await answers()).to.eql(first)
    let turn = 0
    const authorized = (authorization: string) => stash.fetch(url, { headers: { authorization } }).then((response) => response.text())
    const turning = {
      get authorization() {
        return `Bearer turn ${turn++}`
      },
    }
    for (let i = 0; i < 6; i++) await (await stash.fetch(url, { headers: turning })).text()
    const turns = await Promise.all([0, 1, 2, 3, 4, 5, 6].map((i) => authorized(`Bearer turn ${i}`)))
    expect(new Set(turns).size, 'fields that are others each time they are read').to.equal(turns.length)
    const listed = { [Symbol.iterator]: () => [['authorization', 'Bearer listed']][Symbol.iterator]() } as unknown as Record<string, string>
    const ofList = await (await stash.fetch(url, { headers: listed })).text()
    expect(ofList, 'a list in the shape of an object').to.not.be.oneOf([...first, ...turns])
    expect(await (await stash.fetch(url)).text()).to.equal(first[0])
    const throwing = {
      get accept(): string {
        throw new Error('no')
      },
    }
    expect(await stash.fetch(url, { headers: throwing }).catch((error: Error) => error.message)).to.equal('no')
    const left = AbortSignal.abort(new Error('gone'))
    const gone = [stash.fetch(url, { signal: left }), stash.fetch(new Request(url, { signal: left }))]
    for (const { reason } of (await Promise.allSettled(gone)) as PromiseRejectedResult[]) expect(reason.message).to.equal('gone')
    for (const cache of ['reload', 'no-store'] as const)
      expect(await (await stash.fetch(url, { cache } as RequestInit)).text()).to.not.equal('1')
    expect(await (await stash.fetch(url, { method: 'POST' })).text(), 'another method').to.not.be.oneOf(first)
  })

  it('belongs to the caller that a function names, however often the same URL is asked for', async () => {
    let [who, calls] = ['pilot', 0]
    await using stash = await openStash({
      fetch: async () => new Response(`${++calls} for ${who}`),
      providers: {
        ebbline: { baseUrl: base, caller: () => who, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } },
      },
    })
    for (const [name, answer] of [
      ['pilot', '1 for pilot'],
      ['pilot', '1 for pilot'],
      ['cook', '2 for cook'],
      ['pilot', '1 for pilot'],
      ['cook', '2 for cook'],
    ] as const) {
      who = name
      expect(await (await stash.fetch(`${base}/tides/1`)).text()).to.equal(answer)
    }
  })
})

describe('an SQLite store', () => {
  const path = temporaryFolder()
  const entry = (key: string, text: string, storedAt = 1_000): Entry => ({
    ...{ key, provider: 'ebbline', endpoint: 'tides', head: '', body: new TextEncoder().encode(text), storedAt, bornAt: storedAt },
    ...{ freshUntil: 9_000, refreshableUntil: 9_000, usableUntil: 9_000, keepUntil: 9_000, mustRevalidate: false, invalidated: false },
  })

  it('gives what was written last, by whichever of two who have it open, through every way to change an entry', async () => {
    let file = 0
    const change = fc.constantFrom('put', 'times', 'invalidate', 'remove', 'trim', 'sweep', 'room', 'other name')
    const step = fc.tuple(fc.constantFrom(0, 1), change, fc.constantFrom('a', 'b'))
    await fc.assert(
      fc.asyncProperty(fc.array(step, { maxLength: 12 }), async (steps) => {
        const name = path(`${file++}.db`)
        const stores = [sqliteStore(name, { maxBytes: 20_000 }), sqliteStore(name, { maxBytes: 20_000 })]
        const plain = sqliteStore(name, { readOnly: true })
        for (const store of [...stores, plain]) await store.open({ now: 0, warn() {} })
        const read = async (store: Store, key: string) => {
          const found = await store.entries.get(key)
          return found && [new TextDecoder().decode(found.body), found.freshUntil, found.invalidated]
        }
        for (const [i, [by, what, key]] of steps.entries()) {
          const { entries } = stores[by] as Store
          if (what === 'put') await entries.put(entry(key, `${i}`), 2_000)
          if (what === 'times') await entries.updateTimes(key, { ...entry(key, ''), freshUntil: 5_000 + i })
          if (what === 'invalidate') await entries.invalidate({ under: key }, 3_000 + i)
          if (what === 'remove') await entries.remove({ key })
          if (what === 'trim') await entries.trim({ provider: 'ebbline', endpoint: 'tides' }, 1, 2_000)
          if (what === 'sweep') await entries.sweep(9_500)
          if (what === 'room') await entries.put(entry('large', 'x'.repeat(19_000)), 2_000)
          if (what === 'other name') await entries.put(entry(`${key} more`, `${i}`), 2_000)
          for (const one of ['a', 'b', 'a more', 'large']) {
            const truth = await read(plain, one)
            for (const store of stores) for (const _ of [1, 2]) expect(await read(store, one), `${one} after ${what}`).to.eql(truth)
          }
        }
        for (const store of [plain, ...stores]) await store.close()
      }),
      { numRuns: scaled(3) },
    )
  })
})

describe('a call that nothing bounds', () => {
  /** The writes of one stash, by the method of its store. */
  function counted(inner = memoryStore()): { store: Store; writes: () => string[] } {
    let names: string[] = []
    const store = wrappedStore(inner, (name, work) => {
      if (['entries.put', 'records.update'].includes(name)) names.push(name)
      return work()
    })
    return {
      store,
      writes() {
        const told = names
        names = []
        return told
      },
    }
  }

  for (const remote of [false, true])
    it(`writes its entry and nothing else, until it fails or its provider reports limits${remote ? ', on a store that answers later' : ''}`, async () => {
      const { store, writes } = counted(remote ? asynchronousStore() : memoryStore())
      await scene(
        async (now) => {
          const { stash, base, clock, open } = now
          const other = await open({ store })
          const ask = async (id: number, by = stash) => {
            const response = await by.fetch(`${base}/tides/${id}`).catch((error: Error) => error)
            if (id > 21) await clock.sleep(100)
            return response instanceof Error ? response.name : response.status
          }
          await ask(0)
          await clock.sleep(100)
          expect(writes(), 'the first success is told').to.eql(['entries.put', 'records.update'])
          for (let id = 1; id <= 20; id++) await ask(id)
          await clock.sleep(100)
          expect(writes()).to.eql(Array(20).fill('entries.put'))
          now.answer = json(() => ({}), 500)
          await ask(21)
          await clock.sleep(100)
          expect(await ask(22, other), 'the other process is told that it fails').to.equal('HeldOffError')
          await clock.sleep(40_000)
          let left = 3
          now.answer = (...args) =>
            json(() => ({}), 200, { 'x-ratelimit-limit': '10', 'x-ratelimit-remaining': `${--left}`, 'x-ratelimit-reset': '60' })(...args)
          expect([await ask(23, other), await ask(24), await ask(25, other)], 'of 3 that are left').to.eql([200, 200, 200])
          expect([await ask(26, other), await ask(27)]).to.eql(['LimitReachedError', 'LimitReachedError'])
          await clock.run(other.close())
        },
        { provider: { endpoints: { tides: { ...tides, maxWait: '0 s' } } }, config: { store } },
      )
    })
})

/** What one who reads a response finds at each step. */
async function played(response: Response, steps: readonly string[]): Promise<unknown[]> {
  const found: unknown[] = []
  for (const step of steps) {
    try {
      found.push(await does(response, step))
    } catch (error) {
      found.push((error as Error).name)
    }
  }
  return found
}

async function does(response: Response, step: string): Promise<unknown> {
  switch (step) {
    case 'json':
      return response.json()
    case 'text':
      return response.text()
    case 'arrayBuffer':
      return [...new Uint8Array(await response.arrayBuffer())]
    case 'bytes':
      return [...(await (response as Response & { bytes(): Promise<Uint8Array> }).bytes())]
    case 'blob':
      return (await response.blob()).text()
    case 'clone':
      return response.clone().text()
    case 'used':
      return response.bodyUsed
    case 'locked':
      return response.body?.locked
    case 'reader': {
      const reader = (response.body as ReadableStream<Uint8Array>).getReader()
      const { done, value } = await reader.read()
      reader.releaseLock()
      return [done, value?.byteLength]
    }
    case 'cancel':
      return response.body?.cancel()
    default:
      return new Response(response.body).text()
  }
}

describe('an answer that comes whole', () => {
  it('over a real connection is stored, and can be read without a stream, when its caller gets it', async () => {
    const store = memoryStore()
    let atOnce = 0
    const play = async (now: RealUpstream) => {
      now.answer = ({ url }, response) => response.setHeader('content-type', 'application/json').end(JSON.stringify({ id: url }))
      for (let i = 0; i < 20; i++) {
        const response = await now.stash.fetch(`${now.base}/tides/${i}`)
        const { entries } = (await store.entries.size()) as { entries: number }
        if (entries === i + 1 && now.stash.outcomeOf(response)?.stored) atOnce++
        expect(await response.json()).to.eql({ id: `/tides/${i}` })
      }
    }
    await realUpstream({ endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } }, play, { store })
    expect(atOnce, 'but where the network brings head and body apart').to.be.at.least(10)
  })
})
