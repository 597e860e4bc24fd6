import type { Outcome } from '../../core/decide/outcome.js'
import type { Fields } from '../../core/http/stored-head.js'
import type { ProtocolCall, ProtocolReader } from '../../core/protocols/protocol.js'
import { systemClock } from '../system-clock.js'
import { bodiless, fieldsOf, type HttpAnswer } from './http-answer.js'
import type { Fetch } from './http-upstream.js'

/** How long the calls of a batch that are ready to leave wait for those that are not, milliseconds. */
const waitMs = 10

/** Fields that hold for a whole response, not for a part of it. */
const ofWhole = [
  ...['content-length', 'content-encoding', 'transfer-encoding', 'content-digest', 'repr-digest', 'digest', 'content-md5'],
  ...['etag', 'last-modified', 'accept-ranges', 'cache-status', 'age'],
]

export interface BatchParts {
  readonly reader: ProtocolReader
  readonly calls: readonly ProtocolCall[]
  /** By call; undefined where nothing is shared. */
  readonly keys: readonly (string | undefined)[]
  readonly fetch: Fetch
  /** The request as it came. */
  resend(signal: AbortSignal): readonly [input: Parameters<Fetch>[0], init: RequestInit]
}

interface Waiting {
  readonly signal: AbortSignal | undefined
  readonly resolve: (response: Response) => void
  readonly reject: (reason: unknown) => void
}

/** A request of several calls. Each is looked up, decided and counted by itself; those that leave at a time do so in one smaller request. */
export class Batch {
  readonly #parts: BatchParts
  /** Calls that are not over, and those of them that have reached the point of leaving. */
  readonly #running: Set<number>
  readonly #waiting = new Map<number, Waiting>()
  readonly #sent = new Set<number>()
  #cancel: (() => void) | undefined
  /** The response to all calls at once, where there was one. */
  #whole: HttpAnswer | undefined
  /** Responses that could not be taken apart, by the calls that they were to. */
  readonly #unsplit = new Map<number, HttpAnswer>()

  constructor(parts: BatchParts) {
    this.#parts = parts
    this.#running = new Set(parts.calls.keys())
  }

  /** What sends one of the calls. */
  fetchOf(index: number): Fetch {
    return (_input, init) => {
      const signal = init?.signal ?? undefined
      return new Promise<Response>((resolve, reject) => {
        if (signal?.aborted) return reject(signal.reason)
        this.#waiting.set(index, { signal, resolve, reject })
        signal?.addEventListener('abort', () => this.#left(index, signal.reason), { once: true })
        this.#sendOrWait()
      })
    }
  }

  /** A call is over, whether or not it left. */
  over(index: number): void {
    this.#running.delete(index)
    this.#sendOrWait()
  }

  #left(index: number, reason: unknown): void {
    this.#waiting.get(index)?.reject(reason)
    this.#waiting.delete(index)
  }

  #sendOrWait(): void {
    if (this.#waiting.size === 0) return
    if ([...this.#running].every((index) => this.#isSettled(index))) this.#send()
    else this.#cancel ??= systemClock.later(waitMs, () => this.#send(), true)
  }

  /** Whether nothing more is to be expected of a call before the others leave. */
  #isSettled(index: number): boolean {
    if (this.#waiting.has(index) || this.#sent.has(index)) return true
    const key = this.#parts.keys[index]
    return key !== undefined && [...this.#waiting.keys()].some((other) => this.#parts.keys[other] === key) // it waits for that one
  }

  #send(): void {
    this.#cancel?.()
    this.#cancel = undefined
    const leaving = [...this.#waiting].sort(([a], [b]) => a - b)
    this.#waiting.clear()
    if (leaving.length === 0) return
    for (const [index] of leaving) this.#sent.add(index)
    void this.#call(leaving).catch((error) => {
      for (const [, { reject }] of leaving) reject(error)
    })
  }

  async #call(leaving: readonly (readonly [number, Waiting])[]): Promise<void> {
    const { reader, calls, fetch } = this.#parts
    const asked = leaving.map(([index]) => calls[index] as ProtocolCall)
    const isAll = asked.length === calls.length
    this.#whole = undefined // it may be made again
    for (const [index] of leaving) this.#unsplit.delete(index)
    const [input, init] = this.#parts.resend(endOfAll(leaving.map(([, { signal }]) => signal)))
    const response = await fetch(input, isAll ? init : { ...init, ...partOf(init, asked) })
    const bytes = new Uint8Array(await response.arrayBuffer())
    const fields = fieldsOf(response.headers)
    const { status, statusText } = response
    const answer = { status, statusText, fields, body: bytes }
    if (isAll) this.#whole = answer
    const replies = response.ok ? reader.repliesIn(new TextDecoder().decode(bytes), asked) : undefined
    for (const [index] of leaving) if (!replies) this.#unsplit.set(index, answer)
    for (const [i, [, { resolve }]] of leaving.entries()) resolve(replies ? replyOf(response, replies[i]) : copyOf(response, bytes, fields))
  }

  /** The response to the batch, by the responses to its calls in their order: one that is no reply stands for all. */
  async responseOf(responses: readonly Response[], outcomes: readonly Outcome[]): Promise<{ answer: HttpAnswer; outcome: Outcome }> {
    const { reader, calls } = this.#parts
    const texts = await Promise.all(responses.map((response) => response.text()))
    const outcome = batchOutcome(outcomes)
    const [first] = responses as [Response]
    const isOwn = outcomes.map(({ how }) => how === 'forwarded' || how === 'passed')
    const unsplit = [...this.#unsplit].find(([index]) => isOwn[index])?.[1]
    const own = unsplit ?? (isOwn.every(Boolean) ? this.#whole : undefined)
    if (own) return { answer: own, outcome }
    const isReply = (text: string, i: number) =>
      (responses[i] as Response).ok && (!calls[i]?.isAnswered || reader.faultOf(calls[i], text) !== 'foreign')
    const failed = texts.findIndex((text, i) => !isReply(text, i))
    const [head, body] =
      failed >= 0
        ? [responses[failed] as Response, texts[failed] as string]
        : [responses.find((_, i) => calls[i]?.isAnswered) ?? first, `[${texts.filter((_, i) => calls[i]?.isAnswered).join(',')}]`]
    const fields = fieldsOf(head.headers).filter(([name]) => !ofWhole.includes(name))
    return { answer: { status: head.status, statusText: head.statusText, fields, body: new TextEncoder().encode(body) }, outcome }
  }
}

/** A request of some calls of a batch, in place of all. */
function partOf({ headers }: RequestInit, asked: readonly ProtocolCall[]): RequestInit {
  const fields = new Headers(headers)
  fields.delete('content-length')
  return { headers: fields, body: `[${asked.map(({ sent }) => sent).join(',')}]` }
}

/** A signal that aborts once all of some have. */
function endOfAll(signals: readonly (AbortSignal | undefined)[]): AbortSignal {
  const ending = new AbortController()
  let left = signals.length
  for (const signal of signals) {
    const end = () => {
      left--
      if (left === 0) ending.abort(signal?.reason)
    }
    if (signal?.aborted) end()
    else signal?.addEventListener('abort', end, { once: true })
  }
  return ending.signal
}

/** The response to one call, of what came for several; without a body where no reply comes. */
function replyOf({ status, statusText, headers, redirected, url }: Response, reply: string | undefined): Response {
  const fields = fieldsOf(headers).filter(([name]) => !ofWhole.includes(name))
  const head = reply === undefined ? { status: 204 } : { status, statusText }
  return withPlace(new Response(reply ?? null, { ...head, headers: fields as [string, string][] }), { redirected, url })
}

function copyOf({ status, statusText, redirected, url }: Response, bytes: Uint8Array<ArrayBuffer>, fields: Fields): Response {
  const body = bodiless.includes(status) ? null : bytes
  return withPlace(new Response(body, { status, statusText, headers: fields as [string, string][] }), { redirected, url })
}

function withPlace(response: Response, { redirected, url }: Pick<Response, 'redirected' | 'url'>): Response {
  return Object.defineProperties(response, { redirected: { value: redirected }, url: { value: url } })
}

/** How calls were answered, the costliest way first: that of a batch is the first that one of its calls was. */
const ways: readonly Outcome['how'][] = ['failed', 'abandoned', 'refused', 'fallback', 'forwarded', 'passed', 'collapsed', 'stale', 'hit']

function batchOutcome(outcomes: readonly Outcome[]): Outcome {
  const by = (how: Outcome['how']) => outcomes.find((one) => one.how === how)
  const chosen = ways.map(by).find((one) => one !== undefined) as Outcome
  const how = chosen.how === 'passed' && outcomes.some((one) => one.how !== 'passed') ? 'forwarded' : chosen.how
  return { ...chosen, how, ms: Math.max(...outcomes.map(({ ms }) => ms)), ageMs: Math.max(...outcomes.map(({ ageMs }) => ageMs)) }
}
