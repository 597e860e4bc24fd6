import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { text } from 'node:stream/consumers'
import { expect } from 'chai'
import { GraphQLClient } from 'graphql-request'
import ky from 'ky'
import OpenAI from 'openai'
import createClient from 'openapi-fetch'
import { openStash, type ProviderOptions, type Stash } from 'stashen'

interface Played {
  readonly stash: Stash
  readonly base: string
  readonly received: string[]
}

type Answer = (request: IncomingMessage, response: ServerResponse, body: string) => void

/** Plays with a stash in front of a real server, through the runtime's own `fetch`. */
async function withServer(answer: Answer, endpoints: ProviderOptions['endpoints'], play: (played: Played) => Promise<void>): Promise<void> {
  const received: string[] = []
  const server = createServer(async (request, response) => {
    received.push(`${request.method} ${request.url}`)
    answer(request, response, await text(request))
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const stash = await openStash({ providers: { harbour: { baseUrl: base, endpoints } } })
  try {
    await play({ stash, base, received })
    await stash.close()
  } finally {
    server.closeAllConnections()
    server.close()
  }
}

const sendJson = (response: ServerResponse, value: unknown, status = 200) =>
  response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(value))

describe('clients that take a fetch', () => {
  it('ky: reuses what it asks with Request objects, retries included, and reads hooks and errors as usual', () => {
    let failing = 1
    return withServer(
      (request, response) => {
        if (request.url?.includes('none')) sendJson(response, { error: 'no such station' }, 404)
        else if (failing-- > 0) sendJson(response, {}, 503)
        else sendJson(response, { station: request.url, language: request.headers['accept-language'] })
      },
      { station: { request: 'GET /stations/{id}', freshFor: '1 min', keyedBy: { headers: ['Accept-Language'] }, holdOff: 0 } },
      async ({ stash, base, received }) => {
        const api = ky.create({ fetch: stash.fetch, prefixUrl: base, headers: { 'accept-language': 'no' }, retry: { delay: () => 1 } })
        for (let time = 0; time < 3; time++) {
          expect(await api('stations/kelpmouth').json()).to.eql({ station: '/stations/kelpmouth', language: 'no' })
        }
        expect(received, 'one failed call, one retry, and the store').to.have.length(2)
        const other = api.extend({ headers: { 'accept-language': 'de' } })
        expect(await other('stations/kelpmouth').json()).to.include({ language: 'de' })
        const error = await api('stations/none').catch((thrown: Error) => thrown)
        expect((error as Error).name).to.equal('HTTPError')
        expect((await api('stations/kelpmouth')).headers.get('cache-status')).to.match(/^stashen; hit; ttl=/)
      },
    )
  })

  it('openapi-fetch: reuses GET and safe POST, distinguished by their bodies', () => {
    interface Vessel {
      id: string
      name: string
    }
    interface paths {
      '/vessels/{id}': { get: { parameters: { path: { id: string } }; responses: { 200: { content: { 'application/json': Vessel } } } } }
      '/vessels/search': {
        post: {
          requestBody: { content: { 'application/json': { name: string; near?: number } } }
          responses: { 200: { content: { 'application/json': Vessel[] } } }
        }
      }
    }
    return withServer(
      (request, response, body) =>
        sendJson(response, request.method === 'POST' ? [{ id: 'v-1', ...JSON.parse(body) }] : { id: 'v-1', name: 'Marram' }),
      {
        vessel: { request: 'GET /vessels/{id}', freshFor: '1 min' },
        search: { request: 'POST /vessels/search', freshFor: '1 min', safe: true },
      },
      async ({ stash, base, received }) => {
        const client = createClient<paths>({ baseUrl: base, fetch: stash.fetch })
        for (let time = 0; time < 2; time++) {
          const { data, response } = await client.GET('/vessels/{id}', { params: { path: { id: 'v-1' } } })
          expect([data?.name, response.url]).to.eql(['Marram', `${base}/vessels/v-1`])
          for (const body of [{ name: 'Marram', near: 1 }, { near: 1, name: 'Marram' }, { name: 'Sandwort' }]) {
            expect((await client.POST('/vessels/search', { body })).data?.[0]).to.include({ id: 'v-1', name: body.name })
          }
        }
        expect(received).to.have.length(3)
      },
    )
  })

  it('graphql-request: reuses queries by their text and variables, and passes mutations on', () =>
    withServer(
      (_request, response, body) => sendJson(response, { data: { asked: JSON.parse(body).variables ?? null } }),
      {
        graph: {
          request: 'POST /graphql',
          freshFor: '1 min',
          safe: true,
          reuse: { exceptRequest: ({ body }) => /"query":\s*"\s*mutation/.test(new TextDecoder().decode(body)) },
        },
      },
      async ({ stash, base, received }) => {
        const client = new GraphQLClient(`${base}/graphql`, { fetch: stash.fetch })
        const query = 'query Dues($harbour: String!) { dues(harbour: $harbour) { amount } }'
        for (let time = 0; time < 2; time++) {
          expect(await client.request(query, { harbour: 'kelpmouth' })).to.eql({ asked: { harbour: 'kelpmouth' } })
          expect(await client.request(query, { harbour: 'skerry' })).to.eql({ asked: { harbour: 'skerry' } })
        }
        expect(received).to.have.length(2)
        for (let time = 0; time < 2; time++) await client.request('mutation { announce(harbour: "kelpmouth") }')
        expect(received).to.have.length(4)
      },
    ))

  it('openai: streams tokens as they come, and again from store, for each credential apart', () => {
    let sendOn = () => {}
    const chunk = (content: string) =>
      `data: ${JSON.stringify({ id: 'a-1', object: 'chat.completion.chunk', created: 0, model: 'pintle', choices: [{ index: 0, delta: { content }, finish_reason: null }] })}\n\n`
    return withServer(
      (_request, response) => {
        response.writeHead(200, { 'content-type': 'text/event-stream' }).write(chunk('High '))
        sendOn = () => response.write(chunk('water'), () => response.end('data: [DONE]\n\n'))
      },
      { answers: { request: 'POST /answers/chat/completions', freshFor: '1 day', safe: true, maxBodyBytes: 100_000 } },
      async ({ stash, base, received }) => {
        const pintle = (apiKey: string) => new OpenAI({ apiKey, baseURL: `${base}/answers`, fetch: stash.fetch, maxRetries: 0 })
        const ask = (client: OpenAI) =>
          client.chat.completions.create({ model: 'pintle', stream: true, messages: [{ role: 'user', content: 'When is high water?' }] })
        const words: string[] = []
        for await (const { choices } of await ask(pintle('hush-a'))) {
          words.push(choices[0]?.delta.content ?? '')
          if (words.length === 1) sendOn() // the second word is sent only once the first has arrived
        }
        expect(words).to.eql(['High ', 'water'])
        const again: string[] = []
        for await (const { choices } of await ask(pintle('hush-a'))) again.push(choices[0]?.delta.content ?? '')
        expect([again, received.length]).to.eql([words, 1])
        const other = await ask(pintle('hush-b'))
        sendOn()
        for await (const _ of other);
        expect(received).to.have.length(2)
      },
    )
  })
})
