import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { text } from 'node:stream/consumers'
import { Client, fetchExchange, gql } from '@urql/core'
import { persistedExchange } from '@urql/exchange-persisted'
import { expect } from 'chai'
import { FetchRequest, JsonRpcProvider } from 'ethers'
import fc from 'fast-check'
import { buildSchema, graphqlSync } from 'graphql'
import { GraphQLClient } from 'graphql-request'
import { createColors } from 'picocolors'
import { openStash, type ProviderOptions, type Stash, type StashConfig } from 'stashen'
import { createPublicClient, http } from 'viem'
import { readers } from '../src/core/protocols/readers.js'
import type { SeenCall } from '../src/core/traffic/seen-call.js'
import { summaryOf } from '../src/core/traffic/summary.js'
import { ObservedCall } from '../src/measure/observed-call.js'
import { starterYaml } from '../src/measure/starter-config.js'
import { trafficText } from '../src/render/traffic-text.js'
import { stashen } from './support/command-line.js'
import { temporaryFolder } from './support/files.js'

interface Played {
  readonly stash: Stash
  readonly base: string
  /** Bodies that arrived, parsed. */
  readonly received: unknown[]
}

type Reply = (body: string, url: URL) => { status?: number; type?: string; text: string }

async function between(
  reply: Reply,
  provider: Omit<ProviderOptions, 'baseUrl'>,
  play: (now: Played) => Promise<void>,
  config: Partial<StashConfig> = {},
) {
  const received: unknown[] = []
  const server = createServer(async (request, response) => {
    const body = await text(request)
    received.push(body === '' ? request.url : parsed(body))
    const { status = 200, type = 'application/json', text: answer } = reply(body, new URL(request.url as string, 'http://harbour.example'))
    response.writeHead(status, { 'content-type': type }).end(answer)
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const stash = await openStash({ warn: () => {}, providers: { harbour: { ...provider, baseUrl: base } }, ...config })
  try {
    await play({ stash, base, received })
    await stash.close()
  } finally {
    server.closeAllConnections()
    server.close()
  }
}

function parsed(body: string): unknown {
  try {
    return JSON.parse(body)
  } catch {
    return body
  }
}

interface RpcCall {
  readonly id?: unknown
  readonly method: string
  readonly params?: readonly unknown[]
}

let block = 0

/** A node of a made-up chain: its replies to a batch come last first, as they may. */
const node: Reply = (body) => {
  const one = ({ id, method, params = [] }: RpcCall): string[] => {
    if (id === undefined) return []
    const head = `{"jsonrpc":"2.0","id":${JSON.stringify(id)}`
    const fixed: Record<string, string> = { eth_chainId: '"0x2a"', eth_getBalance: '"0x1bc16d674ec80000"' }
    if (method === 'eth_call') return [`${head},"error":{"code":3,"message":"execution reverted"}}`]
    if (method === 'lamports') return [`${head} , "result" : {"value":18446744073709551615,"of":${JSON.stringify(params)}}}`]
    const count = method === 'eth_blockNumber' ? '0x' : 'sent '
    return [`${head},"result":${fixed[method] ?? `"${count}${++block}"`}}`]
  }
  const asked = JSON.parse(body) as RpcCall | RpcCall[]
  if (!Array.isArray(asked)) return { text: one(asked).join('') }
  return { text: `[${asked.flatMap(one).reverse().join(',')}]` }
}

const rpc = {
  request: 'POST /',
  protocol: 'json-rpc',
  byName: {
    eth_chainId: { freshFor: '1 day' },
    eth_blockNumber: { freshFor: '1 min' },
    eth_getBalance: { freshFor: '1 min' },
    lamports: { freshFor: '1 min' },
    eth_call: { freshFor: '1 min' },
  },
} as const

/** Sends JSON as it is written. */
async function post(
  stash: Stash,
  url: string,
  body: string,
): Promise<{ how: string | undefined; text: string; endpoint: string | undefined }> {
  const response = await stash.fetch(url, { method: 'POST', body, headers: { 'content-type': 'application/json' } })
  const said = await response.text()
  const outcome = stash.outcomeOf(response)
  return { how: outcome?.how, text: said, endpoint: outcome?.endpoint }
}

describe('JSON-RPC', () => {
  beforeEach(() => {
    block = 0
  })

  it('reuses the methods that are named, gives each caller its own id, and sends all others each time', () =>
    between(node, { endpoints: { rpc } }, async ({ stash, base, received }) => {
      const call = (id: unknown, method: string, params: unknown[] = []) =>
        post(stash, base, JSON.stringify({ jsonrpc: '2.0', id, method, params }))
      for (const [id, written] of [
        [1, '1'],
        ['a"}', '"a\\"}"'],
        [-7.5, '-7.5'],
        [2 ** 53, '9007199254740992'],
      ] as const) {
        const { text: said } = await call(id, 'lamports', ['marram', { id: 3 }])
        expect(said, 'the rest as it is written').to.equal(
          `{"jsonrpc":"2.0","id":${written} , "result" : {"value":18446744073709551615,"of":["marram",{"id":3}]}}`,
        )
      }
      expect(received).to.have.length(1)
      expect((await call(1, 'lamports', ['sandwort', { id: 3 }])).how).to.equal('forwarded')
      expect((await call(1, 'lamports', ['marram', { id: 4 }])).how, 'ids within parameters count').to.equal('forwarded')
      const before = received.length
      for (let time = 0; time < 2; time++) {
        expect(await call(1, 'eth_sendRawTransaction', ['0x01'])).to.include({
          how: 'passed',
          text: `{"jsonrpc":"2.0","id":1,"result":"sent ${time + 1}"}`,
        })
        expect((await call(1, 'eth_call', [])).text).to.include('reverted')
      }
      expect(received, 'a write, and errors').to.have.length(before + 4)
      const same = await Promise.all([4, 5, 6].map((id) => call(id, 'eth_blockNumber')))
      expect(same.map(({ text: said }) => JSON.parse(said))).to.eql([4, 5, 6].map((id) => ({ jsonrpc: '2.0', id, result: '0x3' })))
      expect(same.map(({ how }) => how).sort()).to.eql(['collapsed', 'collapsed', 'forwarded'])
    }))

  it('answers batches call by call: what is stored from store, the rest in one smaller batch, in the order of the calls', () =>
    between(node, { endpoints: { rpc } }, async ({ stash, base, received }) => {
      const ask = (calls: readonly RpcCall[]) => post(stash, base, JSON.stringify(calls.map((one) => ({ jsonrpc: '2.0', ...one }))))
      const [chain, number, send] = ['eth_chainId', 'eth_blockNumber', 'eth_sendRawTransaction']
      const first = await ask([
        { id: 1, method: chain },
        { id: 2, method: send, params: ['0x01'] },
      ])
      expect(first).to.eql({
        how: 'forwarded',
        endpoint: 'rpc.eth_chainId',
        text: '[{"jsonrpc":"2.0","id":2,"result":"sent 1"},{"jsonrpc":"2.0","id":1,"result":"0x2a"}]',
      })
      const again = await ask([
        { id: 'x', method: number },
        { id: 'y', method: chain },
        { id: 'n', method: send, params: ['0x01'] },
        { method: send, params: ['0x02'] }, // wants no reply
        { id: 'z', method: number }, // the same as the first
      ])
      expect(JSON.parse(again.text)).to.eql(
        [
          ['x', '0x2'],
          ['y', '0x2a'],
          ['n', 'sent 3'],
          ['z', '0x2'],
        ].map(([id, result]) => ({ jsonrpc: '2.0', id, result })),
      )
      const left = (received[1] as RpcCall[]).map(({ id, method }) => [id, method])
      expect([received.length, left]).to.eql([
        2,
        [
          ['x', number],
          ['n', send],
          [undefined, send],
        ],
      ])
      const stored = await ask([
        { id: 8, method: number },
        { id: 9, method: chain },
      ])
      expect([stored.how, JSON.parse(stored.text).map(({ id }: RpcCall) => id), received.length]).to.eql(['hit', [8, 9], 2])
    }))

  for (const [what, body] of [
    ['ids that stand twice', '[{"id":1,"method":"eth_chainId"},{"id":1.0,"method":"eth_chainId"}]'],
    ['an id of null', '{"id":null,"method":"eth_chainId"}'],
    ['a call that is none', '[{"id":1,"method":"eth_chainId"},3]'],
    ['an empty batch', '[]'],
    ['no JSON', '{"id":1,"method":"eth_chainId"'],
    ['a method that stands twice', '{"id":1,"method":"eth_chainId","method":"eth_sendRawTransaction"}'],
    ['a method that is no text', '{"id":1,"method":["eth_chainId"]}'],
  ] as const)
    it(`sends a request on as it is, each time, that has ${what}`, () => {
      const bodies: string[] = []
      const keep: Reply = (sent) => {
        bodies.push(sent)
        return { text: '{"id":1,"result":1}' }
      }
      return between(
        (sent) => keep(sent, new URL('http://harbour.example')),
        { endpoints: { rpc } },
        async ({ stash, base }) => {
          for (let time = 0; time < 2; time++) await post(stash, base, body)
          expect(bodies).to.eql([body, body])
        },
      )
    })

  it('passes on as it is what answers a batch and is no list of replies, and stores nothing of it', () =>
    between(
      () => ({ status: 429, text: '{"jsonrpc":"2.0","id":null,"error":{"code":-32005,"message":"slower"}}' }),
      { endpoints: { rpc: { ...rpc, holdOff: 0 } } },
      async ({ stash, base, received }) => {
        for (let time = 1; time < 3; time++) {
          const response = await stash.fetch(base, {
            method: 'POST',
            body: '[{"id":1,"method":"eth_chainId"},{"id":2,"method":"eth_blockNumber"}]',
          })
          expect([response.status, await response.text(), received.length]).to.eql([
            429,
            '{"jsonrpc":"2.0","id":null,"error":{"code":-32005,"message":"slower"}}',
            time,
          ])
        }
      },
    ))

  it('charges and limits each call by its method', () =>
    between(
      node,
      {
        plan: { currency: 'EUR', perCall: '0.001' },
        endpoints: {
          rpc: {
            ...rpc,
            limits: [{ calls: 4, per: 'hour' }],
            byName: { ...rpc.byName, eth_call: { weight: 26, limits: [{ calls: 1, per: 'hour' }], atLimit: 'refuse' } },
          },
        },
      },
      async ({ stash, base, received }) => {
        await post(stash, base, '[{"id":1,"method":"eth_chainId"},{"id":2,"method":"eth_call"},{"id":3,"method":"eth_chainId"}]')
        const refused = await post(stash, base, '{"id":1,"method":"eth_call"}').catch((error) => error)
        expect([refused.code, refused.message]).to.match(/LIMIT_REACHED,.*1 calls per hour to rpc.eth_call/)
        await post(stash, base, '{"id":1,"method":"eth_blockNumber"}')
        await post(stash, base, '{"id":1,"method":"sendIt"}')
        const full = await post(stash, base, '{"id":1,"method":"eth_getBalance"}').catch((error) => error)
        expect(full.message).to.match(/4 calls per hour to rpc/)
        const { providers } = await stash.report()
        const costs = providers[0]?.endpoints.map(({ endpoint, with: its }) => [endpoint, its?.upstream, its?.money[0]?.amount])
        expect(costs).to.deep.include.members([
          ['rpc.eth_call', 1, '0.026'],
          ['rpc.eth_chainId', 1, '0.001'],
          ['rpc', 1, '0.001'],
        ])
        expect(received).to.have.length(3)
      },
    ))

  it('is the same to viem and ethers, single and in batches, with fewer calls', () =>
    between(node, { endpoints: { rpc } }, async ({ stash, base, received }) => {
      const ask = async (fetchFn: typeof fetch): Promise<unknown[]> => {
        const results: unknown[] = []
        for (const batch of [false, true]) {
          const client = createPublicClient({ transport: http(base, { batch, fetchFn, retryCount: 0 }) })
          const address = '0x00000000000000000000000000000000000000a1'
          results.push(await Promise.all([client.getChainId(), client.getBalance({ address }), client.getChainId()]))
          const request = new FetchRequest(base)
          request.getUrlFunc = async ({ url, method, headers, body }) => {
            const response = await fetchFn(url, { method, headers, body: body as Uint8Array<ArrayBuffer> })
            return { statusCode: response.status, statusMessage: '', headers: {}, body: new Uint8Array(await response.arrayBuffer()) }
          }
          const provider = new JsonRpcProvider(request, 42, { staticNetwork: true, batchMaxCount: batch ? 10 : 1, cacheTimeout: -1 })
          results.push(
            await Promise.all([
              provider.send('eth_chainId', []),
              provider.getBalance(address),
              provider.send('eth_getBalance', [address, 'latest']),
            ]),
          )
          provider.destroy()
        }
        return results
      }
      const bare = await ask(fetch)
      const bareCalls = received.length
      received.length = 0
      expect(await ask(stash.fetch)).to.eql(bare)
      expect(await ask(stash.fetch)).to.eql(bare)
      expect([bareCalls, received.length], 'two of each client, which say differently what they accept').to.eql([7, 4])
    }))
})

const schema = buildSchema(`
  type Berth { id: ID!, depth: Float, note: String }
  type Query { berth(id: ID!): Berth, tides: [Float!]!, broken: String }
  type Mutation { book(berth: ID!): Berth }
`)

/** What a server of GraphQL gives, one that knows documents by the hash of their text once it has seen that. */
function harbourServer(): { reply: Reply; booked: string[] } {
  const booked: string[] = []
  const documents = new Map<string, string>()
  const rootValue = {
    berth: ({ id }: { id: string }) => ({ id, depth: 7.5, note: `seen ${booked.length}` }),
    tides: [1.2, 3.4],
    broken: () => {
      throw new Error('no such instrument')
    },
    book: ({ berth }: { berth: string }) => {
      booked.push(berth)
      return { id: berth, depth: 7.5 }
    },
  }
  interface Asked {
    readonly id?: string
    readonly query?: string
    readonly variables?: Record<string, unknown>
    readonly operationName?: string
    readonly documentId?: string
    readonly extensions?: { readonly persistedQuery?: { readonly sha256Hash: string } }
  }
  const one = ({ id, query, variables, operationName, documentId, extensions }: Asked): object => {
    const hash = extensions?.persistedQuery?.sha256Hash
    const source = query ?? (documentId === 'tides-1' ? 'query Tides { tides }' : documents.get(hash ?? ''))
    if (source === undefined) return { errors: [{ message: 'PersistedQueryNotFound', extensions: { code: 'PERSISTED_QUERY_NOT_FOUND' } }] }
    if (hash) documents.set(hash, source)
    return { ...(id && { id }), ...graphqlSync({ schema, source, rootValue, variableValues: variables, operationName }) }
  }
  const reply: Reply = (body, url) => {
    const asked =
      body === ''
        ? Object.fromEntries(
            [...url.searchParams].map(([name, value]) => [name, name === 'variables' || name === 'extensions' ? JSON.parse(value) : value]),
          )
        : JSON.parse(body)
    return { text: JSON.stringify(Array.isArray(asked) ? asked.map(one) : one(asked)) }
  }
  return { reply, booked }
}

describe('a batch', () => {
  beforeEach(() => {
    block = 0
  })
  const names = { a: { freshFor: '1 min' }, b: { freshFor: '1 min' }, old: { freshFor: '1 ms', staleIfError: '1 day' } } as const
  const batch = (...methods: string[]) => JSON.stringify(methods.map((method, id) => ({ jsonrpc: '2.0', id, method })))
  let isDown = false
  const flaky: Reply = (body, url) => {
    if (!isDown) return node(body, url)
    isDown = false
    return { status: 503, type: 'text/plain', text: 'busy' }
  }

  it('waits for no turn of its own, is made again in part, and ends as its worst call does', () =>
    between(
      flaky,
      { limits: [{ atOnce: 1 }], endpoints: { rpc: { request: 'POST /', protocol: 'json-rpc', retries: 1, holdOff: 0, byName: names } } },
      async ({ stash, base, received }) => {
        const one = await post(stash, base, batch('a', 'send', 'b', 'send'))
        expect([JSON.parse(one.text).map(({ id }: RpcCall) => id), received.length], 'one at a time').to.eql([[0, 1, 2, 3], 4])
        isDown = true
        expect(await post(stash, base, batch('a', 'old')), 'made again').to.include({ how: 'forwarded' })
        isDown = true
        expect(await post(stash, base, batch('a', 'send')), 'a write is not').to.include({ how: 'forwarded', text: 'busy' })
        expect((await post(stash, base, batch('a', 'b'))).how).to.equal('hit')
        for (const body of ['{"id":1,"method":"send"}', 'no JSON'])
          expect((await stash.explain(base, { method: 'POST', body })).reason).to.equal('may-write')
      },
    ))

  it('gives older answers where its upstream fails, refuses where a limit is reached, and leaves callers apart', async () => {
    let left = 0
    await between(
      flaky,
      {
        refusals: 'respond',
        endpoints: {
          rpc: {
            request: 'POST /',
            protocol: 'json-rpc',
            holdOff: 0,
            byName: { ...names, b: { freshFor: '1 min', atLimit: 'refuse', limits: [{ calls: 1, per: 'hour' }] } },
          },
        },
      },
      async ({ stash, base, received }) => {
        await post(stash, base, batch('a', 'old'))
        await new Promise((resolve) => setTimeout(resolve, 5))
        isDown = true
        const older = await post(stash, base, batch('a', 'old'))
        expect([older.how, JSON.parse(older.text).map(({ result }: { result: string }) => result)]).to.eql(['stale', ['sent 1', 'sent 2']])
        await post(stash, base, batch('b'))
        const as = (user: string) => stash.fetch(base, { method: 'POST', body: batch('a', 'b'), headers: { authorization: user } })
        const refused = await as('Bearer other')
        expect([refused.status, ((await refused.json()) as { endpoint: string }).endpoint]).to.eql([429, 'rpc.b'])
        left = received.length
        const ending = new AbortController()
        const leaving = stash.fetch(base, { method: 'POST', body: batch('c', 'd'), signal: ending.signal }).catch(({ name }) => name)
        ending.abort()
        expect([await leaving, received.length]).to.eql(['AbortError', left])
      },
    )
  })

  it('is one request as it came while only measuring, and is not explained, put or warmed as one call', async () => {
    const bodies: string[] = []
    await between(
      (body, url) => {
        bodies.push(body)
        return node(body, url)
      },
      { mode: 'measure', endpoints: { rpc: { request: 'POST /', protocol: 'json-rpc', byName: names } } },
      async ({ stash, base }) => {
        const body = ` ${batch('a', 'a', 'send').replaceAll(',', ' , ')}`
        await post(stash, base, body)
        expect(bodies).to.eql([body])
        const error = await stash.explain(base, { method: 'POST', body }).catch((thrown) => thrown)
        expect(error.message).to.equal('the request is a batch of 3 calls: give each by itself')
        expect((await stash.explain(base, { method: 'POST', body: '{"id":1,"method":"a"}' })).endpoint).to.equal('rpc.a')
      },
    )
  })
})

describe('GraphQL', () => {
  const graph = {
    request: 'POST /graphql',
    protocol: 'graphql',
    freshFor: '1 min',
    byName: { Tides: { freshFor: '1 hour' }, Live: { reuse: 'never' } },
  } as const
  const ask = (stash: Stash, base: string, body: unknown) => post(stash, `${base}/graphql`, JSON.stringify(body))

  it('reuses queries, sends mutations each time, and never stores errors, whatever the writing of the document', async () => {
    const { reply, booked } = harbourServer()
    await between(reply, { endpoints: { graph } }, async ({ stash, base, received }) => {
      const berth = 'query ($id: ID!) { berth(id: $id) { depth } }'
      const plays: [body: object, ways: string[], endpoint?: string][] = [
        [{ query: berth, variables: { id: '7' } }, ['forwarded', 'hit']],
        [{ query: berth, variables: { id: '8' } }, ['forwarded', 'hit']],
        [{ query: 'mutation{book(berth:"7"){id}}' }, ['passed', 'passed']],
        [
          { query: '# query\nfragment F on Berth { id }\nmutation Tides { book(berth: "7") { ...F } }', operationName: 'Tides' },
          ['passed', 'passed'],
          'graph.Tides',
        ],
        [{ query: 'query A { tides } mutation B { book(berth: "7") { id } }', operationName: 'B' }, ['passed', 'passed']],
        [{ query: 'query A { tides } mutation B { book(berth: "7") { id } }', operationName: 'A' }, ['forwarded', 'hit']],
        [{ query: 'query A { tides } mutation B { book(berth: "7") { id } }' }, ['passed', 'passed']],
        [{ query: 'query Tides { tides }' }, ['forwarded', 'hit'], 'graph.Tides'],
        [{ query: 'query Live { tides }' }, ['passed', 'passed'], 'graph.Live'],
        [{ query: '{ tides broken }' }, ['forwarded', 'forwarded']],
        [{ query: '{ nothing }' }, ['forwarded', 'forwarded']],
        [{ query: 'subscription { tides }' }, ['passed', 'passed']],
        [{ query: '{ tides' }, ['passed', 'passed']],
      ]
      for (const [body, ways, endpoint = 'graph'] of plays) {
        const before = received.length
        const bare = JSON.parse(reply(JSON.stringify(body), new URL(base)).text)
        const answers = [await ask(stash, base, body), await ask(stash, base, body)]
        expect(
          answers.map(({ how }) => how),
          JSON.stringify(body),
        ).to.eql(ways)
        expect(answers.map(({ endpoint: its }) => its)).to.eql([endpoint, endpoint])
        expect(
          answers.map(({ text: said }) => JSON.parse(said)),
          'the same as bare',
        ).to.eql([bare, bare])
        expect(received.length - before).to.equal(ways.filter((how) => how !== 'hit').length)
      }
      expect(booked, 'three, and each bare').to.have.length(9)
    })
  })

  it('answers batches by their order or ids, and persisted documents by what they are', async () => {
    const { reply } = harbourServer()
    const documents = { 'tides-1': 'query Tides { tides }' }
    await between(
      reply,
      { endpoints: { graph: { ...graph, documents }, asked: { ...graph, request: 'GET /graphql' } } },
      async ({ stash, base, received }) => {
        const tides = { query: '{ tides }' }
        await ask(stash, base, tides)
        const both = await ask(stash, base, [
          tides,
          { query: 'mutation { book(berth: "9") { id } }' },
          { query: '{ berth(id: "9") { id } }' },
        ])
        expect(JSON.parse(both.text)).to.eql([
          { data: { tides: [1.2, 3.4] } },
          { data: { book: { id: '9' } } },
          { data: { berth: { id: '9' } } },
        ])
        expect(received.at(-1), 'the rest').to.have.length(2)
        for (const id of ['a', 'b']) expect(JSON.parse((await ask(stash, base, { id, query: '{ tides }' })).text).id ?? id).to.equal(id)

        const before = received.length
        for (const documentId of ['tides-1', 'tides-1', 'other', 'other']) await ask(stash, base, { documentId })
        expect((await ask(stash, base, { query: 'query Tides { tides }' })).how, 'the same document').to.equal('hit')
        expect(received.length - before, 'once, and what is not known each time').to.equal(3)

        const get = async (query: string) => stash.outcomeOf(await stash.fetch(`${base}/graphql?${query}`))?.how
        expect([await get('query={tides}'), await get('query={tides}'), await get('query=mutation{book(berth:"1"){id}}')]).to.eql([
          'forwarded',
          'hit',
          'passed',
        ])
      },
    )
  })

  it('is the same to graphql-request and to a client that sends hashes of documents, with fewer calls', async () => {
    let { reply, booked } = harbourServer()
    await between(
      (...request) => reply(...request),
      { endpoints: { graph } },
      async ({ stash, base, received }) => {
        const play = async (fetchFn: typeof fetch) => {
          const simple = new GraphQLClient(`${base}/graphql`, { fetch: fetchFn })
          const berth = 'query Berth($id: ID!) { berth(id: $id) { depth } }'
          const hashing = new Client({
            url: `${base}/graphql`,
            fetch: fetchFn,
            preferGetMethod: false,
            exchanges: [persistedExchange({ preferGetForPersistedQueries: false }), fetchExchange],
          })
          const both = await simple.batchRequests([{ document: berth, variables: { id: '1' } }, { document: '{ tides }' }])
          const persisted = [
            await hashing.query(gql(berth), { id: '2' }).toPromise(),
            await hashing.query(gql(berth), { id: '2' }, { requestPolicy: 'network-only' }).toPromise(),
          ]
          const error = await simple.request('{ broken nothing }').catch(({ response }) => response.errors)
          await hashing.mutation(gql('mutation { book(berth: "3") { id } }'), {}).toPromise()
          return [await simple.request(berth, { id: '1' }), both, persisted.map(({ data, error: wrong }) => [data, wrong]), error]
        }
        const bare = await play(fetch)
        const bareCalls = received.length
        ;({ reply, booked } = harbourServer()) // which knows no document yet
        expect(await play(stash.fetch)).to.eql(bare)
        const first = received.length - bareCalls
        expect(await play(stash.fetch)).to.eql(bare)
        expect([bareCalls, first, received.length - bareCalls - first], 'then only what fails and what writes').to.eql([7, 6, 2])
        expect(booked).to.have.length(2)
      },
    )
  })

  it('passes on responses in parts as they come, and what is no response of GraphQL, and stores neither', () => {
    const parts = '--p\r\ncontent-type: application/json\r\n\r\n{"data":{"tides":[]},"hasNext":true}\r\n--p--'
    const types = ['multipart/mixed; boundary="p"', 'text/html', 'application/json']
    return between(
      () => {
        const [type] = types
        return { type, text: type?.startsWith('multipart') ? parts : type === 'text/html' ? '<h1>Sign in</h1>' : '[1]' }
      },
      { endpoints: { graph: { ...graph, holdOff: 0 } } },
      async ({ stash, base, received }) => {
        while (types.length > 0) {
          const said = [await ask(stash, base, { query: '{ tides @defer }' }), await ask(stash, base, { query: '{ tides @defer }' })]
          expect(said.map(({ how }) => how)).to.eql(['forwarded', 'forwarded'])
          expect(said[0]?.text).to.equal(types[0]?.startsWith('multipart') ? parts : types[0] === 'text/html' ? '<h1>Sign in</h1>' : '[1]')
          types.shift()
        }
        expect(received).to.have.length(6)
      },
    )
  })

  it('holds nobody off by errors, which are about what was asked, and gives an older answer in place of them where that is allowed', async () => {
    let isBroken = false
    await between(
      () => ({ text: isBroken ? '{"data":null,"errors":[{"message":"overloaded"}]}' : '{"data":{"tides":[1]}}' }),
      { endpoints: { graph: { ...graph, freshFor: '1 ms', staleIfError: '1 day' } } },
      async ({ stash, base, received }) => {
        await ask(stash, base, { query: '{ tides }' })
        isBroken = true
        await new Promise((resolve) => setTimeout(resolve, 5))
        for (let time = 0; time < 3; time++)
          expect(await ask(stash, base, { query: '{ tides }' })).to.include({ how: 'stale', text: '{"data":{"tides":[1]}}' })
        expect((await ask(stash, base, { query: '{ broken }' })).text).to.include('overloaded')
        expect(received).to.have.length(5)
      },
    )
  })
})

describe('the commands that look at traffic', () => {
  const file = temporaryFolder()

  it('recognise both protocols in what a program sends, propose them, and say which methods repeat', () => {
    const seen: SeenCall[] = []
    const call = (path: string, body: object, answer: object) => {
      const one = new ObservedCall({ salt: 'salt', seen: (its) => void seen.push(its) })
      one.asks('POST', `https://chain.skerry.example${path}`, [['content-type', 'application/json']])
      one.sends(JSON.stringify(body))
      one.answers(200)
      one.brings(JSON.stringify(answer))
      one.over(true)
    }
    for (let id = 0; id < 4; id++) {
      call('/rpc', { jsonrpc: '2.0', id, method: 'eth_chainId' }, { jsonrpc: '2.0', id, result: '0x2a' })
      call('/graphql', { query: 'query Tides { tides }' }, { data: { tides: [] } })
      call('/graphql', { query: 'mutation { book }' }, { data: { book: id } })
    }
    const summary = summaryOf(seen)
    const [graph, rpc] = summary.providers[0]?.endpoints ?? []
    expect([rpc?.protocol, rpc?.repeats, rpc?.same, rpc?.operations]).to.eql([
      'json-rpc',
      3,
      3,
      [{ name: 'eth_chainId', calls: 4, repeats: 3, same: 3 }],
    ])
    expect([graph?.protocol, graph?.whatIf[0]?.saved]).to.eql(['graphql', 3])
    expect(starterYaml(summary))
      .to.match(/eth_chainId: 3 times, 3 with the same answer[\s\S]*protocol: json-rpc/)
      .and.match(/protocol: graphql\n +freshFor: 10 s/)
    expect(trafficText(summary, { colors: createColors(false) }))
      .to.match(/graphql {2}.*say protocol: "graphql"/)
      .and.match(/"byName".*eth_chainId \(3\)/)
    expect(JSON.stringify(seen)).to.not.include('tides')
  })

  it('try a query that is given, and nothing that may write', () => {
    const { reply } = harbourServer()
    return between(
      (body, url) => (url.pathname === '/rpc' ? node(body, url) : reply(body, url)),
      {},
      async ({ base, received }) => {
        const tried = (path: string, ...options: string[]) =>
          stashen('try', `${base}${path}`, '--store', file('tried.db'), '--times', '3', '--body', ...options)
        expect((await tried('/graphql', '{"query":"query Tides { tides }"}')).stdout).to.match(
          /POST http[\s\S]*same again.*store[\s\S]*cut off.*store/,
        )
        const chain = '{"jsonrpc":"2.0","id":1,"method":"eth_chainId"}'
        expect((await tried('/rpc', chain, '--fresh-for', '1 min')).stdout).to.match(/same again.*store[\s\S]*3 calls/)
        const before = received.length
        for (const [body, why] of [
          ['{"query":"mutation { book(berth: \\"1\\") { id } }"}', 'a mutation or a subscription'],
          [chain, 'nothing tells that "eth_chainId" only asks'],
          [`[${chain}]`, 'is a batch'],
          ['{}', 'neither GraphQL nor JSON-RPC'],
        ] as const)
          expect((await tried('/rpc', body)).stderr).to.include(why)
        expect(received).to.have.length(before)
      },
    )
  })
})

describe('JSON text', () => {
  it('of any shape is taken apart into calls and put together again with nothing lost', () => {
    const { 'json-rpc': reader } = readers
    const id = fc.oneof(fc.string(), fc.integer(), fc.double({ noNaN: true, noDefaultInfinity: true }))
    const url = new URL('https://chain.skerry.example')
    fc.assert(
      fc.property(
        fc.array(fc.tuple(id, fc.string(), fc.json()), { minLength: 1, maxLength: 5 }),
        fc.constantFrom('', ' ', '\n\t'),
        (calls, space) => {
          fc.pre(new Set(calls.map(([one]) => JSON.stringify(one))).size === calls.length && !calls.some(([one]) => Object.is(one, -0)))
          const text = calls.map(
            ([one, method, params]) =>
              `{${space}"id"${space}:${JSON.stringify(one)},"params":${params}${space},"method":${JSON.stringify(method)}}`,
          )
          const request = reader.read({ method: 'POST', url, text: `[${text.join(`${space},`)}]` })
          expect(request?.calls.map(({ sent, name }) => [sent, name])).to.eql(text.map((one, i) => [one, calls[i]?.[1]]))
          const replies = calls.map(([one, , params]) => `{"result":${params},"id":${JSON.stringify(one)}}`)
          expect(reader.repliesIn(`[${[...replies].reverse().join()}]`, request?.calls ?? [])).to.eql(replies)
          const [call] = request?.calls ?? []
          expect(call && reader.withIdOf({ ...call, id: '"another"' }, replies[0] as string)).to.equal(
            `{"result":${calls[0]?.[2]},"id":"another"}`,
          )
        },
      ),
      { numRuns: 200 },
    )
  })
})
