import fastify, { type FastifyInstance, type FastifyReply, type FastifyRequest } from 'fastify'
import type { Clock } from 'stashen'
import { FastClock } from '../fast-clock.js'
import { flightField } from '../flight-fetch.js'
import { Chance } from '../random.js'
import { dayOf } from '../world.js'

/** What a simulated provider counted of its own calls, by path template. A call whose caller gave up waiting has failed. */
export type ProviderCounts = Record<string, { answered: number; refused: number; failed: number }>

/** How a provider can be down: `refusing` sends 503, `hanging` closes the connection after a long time, `breaking` sends half a body. */
export type Fault = 'refusing' | 'hanging' | 'breaking'

export interface SimulatedProvider {
  /** Where it listens, e.g. `http://127.0.0.1:40123`. */
  readonly url: string
  readonly counts: ProviderCounts
  /** Calls that it bills, by day in Kelpmouth, as it tells its customers. */
  readonly usage: ReadonlyMap<string, number>
  /** Takes it down until `restore`. */
  cut(fault?: Fault): void
  restore(): void
  close(): Promise<void>
}

export interface ProviderSetting {
  readonly clock: Clock
  readonly seed: number
  /** Where it listens. Default: any free port. */
  readonly port?: number
}

/** What an endpoint's code does: wait as long as the work takes, then say the answer. */
export interface Answering {
  readonly request: FastifyRequest
  readonly reply: FastifyReply
  readonly now: number
}

export interface ProviderBehaviour {
  readonly name: string
  /** Called before anything else; what it returns is sent as a refusal with status 429. */
  admit(counts: Calls, now: number, reply: FastifyReply): object | undefined
  /** Typical time that `path` takes, in milliseconds. */
  typicalMs(path: string, now: number): number
  readonly endpoints: Readonly<Record<string, (call: Answering) => unknown>>
  /** Whether it bills calls that it answered with 304, and calls that failed; refused ones nobody bills. */
  readonly bills: { readonly unmodified: boolean; readonly failed: boolean }
  /** What happens by the clock alone. */
  faultAt?(now: number): Fault | undefined
}

/** Calls so far, as a provider's limits see them. */
class Calls {
  readonly #times: number[] = []
  atOnce = 0

  begin(now: number): void {
    this.#times.push(now)
  }

  /** Calls begun since `from`. */
  since(from: number): number {
    let count = 0
    for (let i = this.#times.length - 1; i >= 0 && (this.#times[i] as number) >= from; i--) count++
    return count
  }

  get total(): number {
    return this.#times.length
  }
}

/** How long a call that hangs occupies the provider, milliseconds: longer than its callers wait. */
const hangsForMs = 15_000

/** Starts a provider as a real HTTP server on a free loopback port. */
export async function startProvider(behaviour: ProviderBehaviour, { clock, seed, port = 0 }: ProviderSetting): Promise<SimulatedProvider> {
  const server = fastify({ forceCloseConnections: true })
  const random = new Chance(seed, behaviour.name)
  const calls = new Calls()
  const counts: ProviderCounts = {}
  const usage = new Map<string, number>()
  const bill = (at: number) => void usage.set(dayOf(at), (usage.get(dayOf(at)) ?? 0) + 1)
  let cutBy: Fault | undefined

  /** Waits on the provider's clock; a fast one may jump meanwhile, for nothing is under way. Says whether the caller is still there. */
  async function pause(request: FastifyRequest, ms: number): Promise<boolean> {
    const flightNow = () => (clock instanceof FastClock ? clock.flight(String(request.headers[flightField])) : undefined)
    const flight = flightNow()
    flight?.park()
    await new Promise<void>((resolve) => clock.later(ms, resolve))
    flight?.travel()
    return flight === flightNow() && !request.socket.destroyed
  }

  for (const [template, answer] of Object.entries(behaviour.endpoints)) {
    const [method = '', path = ''] = template.split(' ')
    const count = { answered: 0, refused: 0, failed: 0 }
    counts[template] = count
    server.route({
      method,
      url: path,
      async handler(request, reply) {
        const begun = clock.now()
        calls.begin(begun)
        calls.atOnce++
        try {
          const refusal = behaviour.admit(calls, clock.now(), reply)
          if (refusal) {
            count.refused++
            await pause(request, random.latency(30))
            return reply.code(429).send(refusal)
          }
          const fault = cutBy ?? behaviour.faultAt?.(clock.now())
          if (fault) {
            count.failed++
            if (behaviour.bills.failed) bill(begun)
            return await fail(fault, request, reply)
          }
          const wanted = await pause(request, random.latency(behaviour.typicalMs(path, clock.now())))
          count[wanted ? 'answered' : 'failed']++
          const answered = await answer({ request, reply, now: clock.now() })
          if (wanted ? reply.statusCode !== 304 || behaviour.bills.unmodified : behaviour.bills.failed) bill(begun)
          return answered
        } finally {
          calls.atOnce--
        }
      },
    })
  }

  async function fail(fault: Fault, request: FastifyRequest, reply: FastifyReply): Promise<FastifyReply> {
    await pause(request, fault === 'hanging' ? hangsForMs : random.latency(200))
    if (fault === 'refusing') return reply.code(503).send({ error: 'down for maintenance' })
    reply.hijack()
    if (fault === 'breaking') {
      reply.raw.writeHead(200, { 'content-type': 'application/json', 'content-length': '400' })
      reply.raw.write('{"half":', () => reply.raw.destroy())
    } else reply.raw.destroy()
    return reply
  }

  return {
    url: await listen(server, port),
    counts,
    usage,
    cut(fault = 'refusing') {
      cutBy = fault
    },
    restore() {
      cutBy = undefined
    },
    close: () => server.close(),
  }
}

async function listen(server: FastifyInstance, port: number): Promise<string> {
  return server.listen({ host: '127.0.0.1', port })
}
