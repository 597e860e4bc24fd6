import type { FastifyReply } from 'fastify'
import type { Clock } from 'stashen'
import { Chance } from '../random.js'
import { dayOf } from '../world.js'

/** What a simulated provider counted of its own calls, by path template. A call whose caller gave up waiting has failed. */
export type ProviderCounts = Record<string, { answered: number; refused: number; failed: number }>

/** How a provider can be down: `refusing` sends 503, `hanging` closes the connection after a long time, `breaking` sends half a body. */
export type Fault = 'refusing' | 'hanging' | 'breaking'

export interface SimulatedProvider {
  readonly counts: ProviderCounts
  /** Calls that it bills, by day in Kelpmouth, as it tells its customers. */
  readonly usage: ReadonlyMap<string, number>
  /** Calls it within this process: a `fetch` for which only path, query, method, body and `If-None-Match` matter. */
  readonly fetch: typeof globalThis.fetch
  /** Serves it as a real HTTP server on a loopback port; 0 takes any free one. Returns its address, e.g. `http://127.0.0.1:40123`. */
  listen(port: number): Promise<string>
  /** Takes it down until `restore`. */
  cut(fault?: Fault): void
  restore(): void
  close(): Promise<void>
}

export interface ProviderSetting {
  readonly clock: Clock
  readonly seed: number
}

/** A request as an endpoint's code sees it. */
export interface ProviderCall {
  readonly params: Readonly<Record<string, string>>
  readonly query: URLSearchParams
  /** The JSON of its body, if it has one. */
  readonly body: unknown
  readonly ifNoneMatch: string | undefined
  readonly now: number
}

export interface ProviderReply {
  /** Default 200. */
  readonly status?: number
  readonly headers?: Readonly<Record<string, string>>
  readonly json?: unknown
}

/** What a provider's limits say of a call: fields of every response, and a body to refuse it with, with status 429. */
interface Admission {
  readonly headers?: Readonly<Record<string, string>>
  readonly refusal?: object
}

export interface ProviderBehaviour {
  readonly name: string
  /** Called before anything else. */
  admit(counts: Calls, now: number): Admission
  /** Typical time that `path` takes, in milliseconds. */
  typicalMs(path: string, now: number): number
  readonly endpoints: Readonly<Record<string, (call: ProviderCall) => ProviderReply>>
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

interface Incoming {
  readonly method: string
  readonly url: URL
  readonly ifNoneMatch: string | undefined
  body(): unknown
  /** Whether the caller still waits. */
  isAwaited(): boolean
}

/** A provider, called within this process or served over HTTP. */
export function simulatedProvider(behaviour: ProviderBehaviour, { clock, seed }: ProviderSetting): SimulatedProvider {
  const random = new Chance(seed, behaviour.name)
  const calls = new Calls()
  const counts: ProviderCounts = {}
  const usage = new Map<string, number>()
  const bill = (at: number) => void usage.set(dayOf(at), (usage.get(dayOf(at)) ?? 0) + 1)
  let cutBy: Fault | undefined
  let stop = async () => {}

  const routes = Object.entries(behaviour.endpoints).map(([template, endpoint]) => {
    const [method = '', path = ''] = template.split(' ')
    const count = { answered: 0, refused: 0, failed: 0 }
    counts[template] = count
    return { method, path, pattern: new RegExp(`^${path.replaceAll(/:(\w+)/g, '(?<$1>[^/]+)')}$`), count, endpoint }
  })
  const pause = (ms: number) => new Promise<void>((resolve) => clock.later(ms, resolve, true))

  async function handle({ method, url, ifNoneMatch, body, isAwaited }: Incoming): Promise<ProviderReply | 'hanging' | 'breaking'> {
    const route = routes.find((one) => one.method === method && one.pattern.test(url.pathname))
    if (!route) return { status: 404, json: { error: 'no such endpoint' } }
    const { path, pattern, count, endpoint } = route
    const begun = clock.now()
    calls.begin(begun)
    calls.atOnce++
    try {
      const { refusal, headers } = behaviour.admit(calls, begun)
      if (refusal) {
        count.refused++
        await pause(random.latency(30))
        return { status: 429, headers, json: refusal }
      }
      const fault = cutBy ?? behaviour.faultAt?.(begun)
      if (fault) {
        count.failed++
        if (behaviour.bills.failed) bill(begun)
        await pause(fault === 'hanging' ? hangsForMs : random.latency(200))
        return fault === 'refusing' ? { status: 503, headers, json: { error: 'down for maintenance' } } : fault
      }
      await pause(random.latency(behaviour.typicalMs(path, begun)))
      const isWanted = isAwaited()
      count[isWanted ? 'answered' : 'failed']++
      const params = { ...pattern.exec(url.pathname)?.groups }
      const reply = endpoint({ params, query: url.searchParams, body: body(), ifNoneMatch, now: clock.now() })
      if (isWanted ? reply.status !== 304 || behaviour.bills.unmodified : behaviour.bills.failed) bill(begun)
      return { ...reply, headers: { ...headers, ...reply.headers } }
    } finally {
      calls.atOnce--
    }
  }

  return {
    counts,
    usage,
    async fetch(input, init) {
      const { signal } = init ?? {}
      const handled = handle({
        method: init?.method ?? 'GET',
        url: new URL(String(input)),
        ifNoneMatch: new Headers(init?.headers).get('if-none-match') ?? undefined,
        body: () => (init?.body ? JSON.parse(textOf(init.body)) : undefined),
        isAwaited: () => !signal?.aborted,
      })
      return responseOf(await (signal ? unlessAborted(handled, signal) : handled))
    },
    async listen(port) {
      const { fastify } = await import('fastify')
      const server = fastify({ forceCloseConnections: true })
      stop = () => server.close()
      server.all('/*', async (request, reply) => {
        const handled = await handle({
          method: request.method,
          url: new URL(request.url, 'http://127.0.0.1'),
          ifNoneMatch: request.headers['if-none-match'],
          body: () => request.body,
          isAwaited: () => !request.socket.destroyed,
        })
        return send(handled, reply)
      })
      return server.listen({ host: '127.0.0.1', port })
    },
    cut(fault = 'refusing') {
      cutBy = fault
    },
    restore() {
      cutBy = undefined
    },
    close: () => stop(),
  }
}

function textOf(body: unknown): string {
  return typeof body === 'string' ? body : new TextDecoder().decode(body as Uint8Array)
}

/** Ends with the reason of `signal` once that is aborted, as `fetch` does. */
function unlessAborted<T>(work: Promise<T>, signal: AbortSignal): Promise<T> {
  return new Promise((resolve, reject) => {
    const abort = () => reject(signal.reason)
    if (signal.aborted) abort()
    else signal.addEventListener('abort', abort, { once: true })
    work.then(resolve, reject).finally(() => signal.removeEventListener('abort', abort))
  })
}

const halfBody = '{"half":'

function responseOf(handled: ProviderReply | 'hanging' | 'breaking'): Response {
  if (handled === 'hanging') throw new TypeError('fetch failed', { cause: new Error('other side closed') })
  if (handled !== 'breaking') {
    const { status = 200, headers, json } = handled
    const body = json === undefined ? null : JSON.stringify(json)
    return new Response(body, { status, headers: body === null ? headers : { 'content-type': 'application/json', ...headers } })
  }
  const body = new ReadableStream({
    start: (controller) => controller.enqueue(new TextEncoder().encode(halfBody)),
    pull: (controller) => controller.error(new TypeError('terminated')),
  })
  return new Response(body, { headers: { 'content-type': 'application/json', 'content-length': '400' } })
}

function send(handled: ProviderReply | 'hanging' | 'breaking', reply: FastifyReply): FastifyReply {
  if (typeof handled === 'object')
    return reply
      .code(handled.status ?? 200)
      .headers(handled.headers ?? {})
      .send(handled.json)
  reply.hijack()
  if (handled === 'breaking') {
    reply.raw.writeHead(200, { 'content-type': 'application/json', 'content-length': '400' })
    reply.raw.write(halfBody, () => reply.raw.destroy())
  } else reply.raw.destroy()
  return reply
}
