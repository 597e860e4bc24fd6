import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { uniformFloat64 } from 'pure-rand/distribution/uniformFloat64'
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus'
import { openStash, type ProviderOptions, type Stash, type StashConfig } from 'stashen'
import { FlightClock, flightFetch, flightField } from './flight-fetch.js'
import { asynchronousStore } from './wrapped-store.js'

/** Whether scenes play on a store that answers a tick later, unless they bring one of their own. */
const isAsynchronous = process.env.STASHEN_TEST_STORE === 'asynchronous'

/** 30 June 2026, 12:00 UTC. */
export const noon = Date.parse('2026-06-30T12:00:00Z')

export type Answer = (request: IncomingMessage, response: ServerResponse) => void

/** A real HTTP server, a fast clock and a stash on both. */
export interface Scene {
  readonly clock: FlightClock
  readonly stash: Stash
  /** Base URL of the provider "ebbline". */
  readonly base: string
  /** Requests that reached the server, as "METHOD /path". */
  readonly received: string[]
  readonly warnings: string[]
  /** What the server does with the next requests. */
  answer: Answer
  /** Opens one more stash on the same clock and server. */
  open(config?: Partial<StashConfig>): Promise<Stash>
}

export interface SceneSetting {
  readonly provider?: Omit<ProviderOptions, 'baseUrl'>
  readonly config?: Partial<StashConfig>
}

/** The tides endpoint most tests use. */
export const tides = { request: 'GET /tides/{day}', freshFor: '1 min', staleIfError: '1 hour', holdOff: '30 s' } as const

/** Plays `play` on a fast clock against a server that answers `{ "n": <how manieth> }`, and closes everything. */
export async function scene(play: (scene: Scene) => Promise<void>, { provider, config }: SceneSetting = {}): Promise<void> {
  const clock = new FlightClock(noon)
  const received: string[] = []
  const warnings: string[] = []
  const { fetch, close } = flightFetch(clock)
  const server = createServer((request, response) => {
    received.push(`${request.method} ${request.url}`)
    response.sendDate = false // it would be the system's, not the fast clock's
    now.answer(request, response)
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  let opened = 0
  const open = (more: Partial<StashConfig> = {}) =>
    openStash({
      ...(isAsynchronous && { store: asynchronousStore() }),
      ...{ clock, fetch, random: ownRandom(++opened), warn: (message: string) => void warnings.push(message) },
      providers: { ebbline: { endpoints: { tides }, ...provider, baseUrl: base } },
      ...config,
      ...more,
    })
  const now: Scene = { clock, stash: await open(), base, received, warnings, open, answer: json(() => ({ n: received.length })) }
  try {
    await clock.run(play(now))
    await clock.run(now.stash.close())
  } finally {
    close()
    server.closeAllConnections()
    await new Promise((closed) => server.close(closed))
  }
}

/** Numbers from 0 to 1: others for each process, the same in every run. */
function ownRandom(process: number): () => number {
  const generator = xoroshiro128plus(process)
  return () => uniformFloat64(generator)
}

export function json(value: () => unknown, status = 200, headers: Record<string, string | string[]> = {}): Answer {
  return (_request, response) => {
    response.writeHead(status, { 'content-type': 'application/json', ...headers })
    response.end(JSON.stringify(value()))
  }
}

/** Never answers; the clock may go on. */
export function hang(clock: FlightClock): Answer {
  return (request) => clock.flight(request.headers[flightField])?.park()
}

/** Answers after `ms` of the clock. */
export function slow(clock: FlightClock, ms: number, answer: Answer): Answer {
  return async (request, response) => {
    const flight = clock.flight(request.headers[flightField])
    flight?.park()
    await clock.sleep(ms)
    flight?.travel()
    answer(request, response)
  }
}

/** Begins a body of 100 bytes and breaks off. */
export const breakOff: Answer = (_request, response) => {
  response.writeHead(200, { 'content-type': 'application/json', 'content-length': '100' })
  response.write('{"half":', () => response.destroy())
}
