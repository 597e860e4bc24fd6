import { Agent, type IncomingMessage, request } from 'node:http'
import { FastClock } from 'stashen/harbour'

/** A message under way between a stash and a server on one fast clock: time stands still while it travels. */
interface Flight {
  readonly id: string
  /** It has arrived, and the receiver now waits for the clock. */
  park(): void
  /** It is under way again. */
  travel(): void
  /** It is over. */
  end(): void
}

/** A fast clock that stands still while real messages travel. */
export class FlightClock extends FastClock {
  readonly #flights = new Map<string, Flight>()
  readonly #leaving: (() => void)[] = []
  #travelling = 0
  #begun = 0

  /** One after the other, in the order of asking: messages of the same moment then arrive in the same order on every machine. */
  beginFlight(): Promise<Flight> {
    return new Promise((resolve) => {
      const leave = () => resolve(this.#newFlight())
      if (this.#travelling > 0) this.#leaving.push(leave)
      else leave()
    })
  }

  /** The flight that a message says it belongs to, unless it is over. */
  flight(id: unknown): Flight | undefined {
    return this.#flights.get(String(id))
  }

  #newFlight(): Flight {
    const id = String(++this.#begun)
    let release: (() => void) | undefined
    const park = () => {
      if (!release) return
      this.#travelling--
      if (this.#travelling === 0) this.#leaving.shift()?.()
      release()
      release = undefined
    }
    const travel = () => {
      if (release || !this.#flights.has(id)) return
      this.#travelling++
      release = this.hold()
    }
    const end = () => {
      park()
      this.#flights.delete(id)
    }
    const flight = { id, park, travel, end }
    this.#flights.set(id, flight)
    travel()
    return flight
  }
}

type Fetch = typeof globalThis.fetch

/** Names the flight that a request belongs to. */
export const flightField = 'x-flight'

/**
 * A plain `fetch` over `node:http` that tells a fast clock what is under way: from the request's leaving to the last byte of the
 * answer. A body is read as it comes, so one that breaks off does so for the reader of the answer. Close the agent when done.
 */
export function flightFetch(clock: FlightClock): { fetch: Fetch; close(): void } {
  const agent = new Agent({ keepAlive: true })
  const fetch: Fetch = async (input, init) => {
    const flight = await clock.beginFlight()
    try {
      const message = await send(agent, input, init, flight.id)
      const body = await wholeBody(message)
      const empty = body instanceof Buffer && body.byteLength === 0
      return new Response(empty ? null : body, {
        status: message.statusCode,
        statusText: message.statusMessage,
        headers: pairs(message.rawHeaders),
      })
    } finally {
      flight.end()
    }
  }
  return { fetch, close: () => agent.destroy() }
}

function send(agent: Agent, input: Parameters<Fetch>[0], init: Parameters<Fetch>[1], flight: string): Promise<IncomingMessage> {
  return new Promise((resolve, reject) => {
    const headers = Object.fromEntries(new Headers(init?.headers))
    const options = {
      agent,
      method: init?.method ?? 'GET',
      headers: { ...headers, [flightField]: flight },
      signal: init?.signal ?? undefined,
    }
    const outgoing = request(String(input), options, resolve)
    outgoing.on('error', (error) => reject(new TypeError('fetch failed', { cause: error })))
    outgoing.end(init?.body)
  })
}

/** The bytes of a body, or what gives its reader the error that broke it off. */
async function wholeBody(message: IncomingMessage): Promise<Buffer<ArrayBuffer> | ReadableStream> {
  const chunks: Buffer[] = []
  try {
    for await (const chunk of message) chunks.push(chunk)
    return Buffer.concat(chunks)
  } catch (broken) {
    return new ReadableStream({ start: (controller) => controller.error(broken) })
  }
}

/** Names and values by turns, as pairs. */
function pairs(raw: readonly string[]): [string, string][] {
  return raw.flatMap((name, i) => (i % 2 === 0 ? [[name, raw[i + 1] ?? ''] as [string, string]] : []))
}
