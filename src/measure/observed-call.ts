import { digestOf } from '../core/rules/digest.js'
import type { SeenCall } from '../core/traffic/seen-call.js'
import { spokenCall } from '../core/traffic/spoken.js'
import { BodyDigest, operationName, pathWithoutSecrets, requestKey } from './request-key.js'

/** The time, whatever the program makes of its clock. */
const { now } = Date
const ticks = performance.now.bind(performance)

/** What a call is reported to, and with what it is made unreadable. */
export interface Observing {
  readonly salt: string
  seen(call: SeenCall): void
}

/** One call under way: follows it until it is over, and reports it once. */
export class ObservedCall {
  readonly #observing: Observing
  readonly #at = now()
  readonly #began = ticks()
  readonly #sent = new BodyDigest()
  readonly #got = new BodyDigest()
  #request: { readonly method: string; readonly url: URL; readonly fields: readonly (readonly [string, string])[] } | undefined
  #status: number | undefined
  #isOver = false

  constructor(observing: Observing) {
    this.#observing = observing
  }

  /** Notes what is asked. A URL that is none is not followed. */
  asks(method: string, url: string, fields: readonly (readonly [string, string])[]): void {
    if (URL.canParse(url)) this.#request = { method: method.toUpperCase(), url: new URL(url), fields }
  }

  sends(chunk: unknown): void {
    this.#sent.add(chunk)
  }

  answers(status: number): void {
    this.#status = status
  }

  brings(chunk: unknown): void {
    this.#got.add(chunk)
  }

  /** `isWhole`: whether all of the answer came. */
  over(isWhole: boolean): void {
    if (this.#isOver || !this.#request) return
    this.#isOver = true
    const { method, url } = this.#request
    const { salt } = this.#observing
    const text = method === 'POST' ? this.#sent.whole() : undefined
    const spoken = text ? spokenCall(text) : undefined
    const answer = spoken ? spoken.answerOf(this.#got.whole() ?? '') : ''
    this.#observing.seen({
      at: this.#at,
      ms: Math.round((ticks() - this.#began) * 1_000) / 1_000,
      method,
      origin: url.origin,
      path: pathWithoutSecrets(salt, url.pathname),
      ...requestKey(salt, { ...this.#request, body: spoken?.identity ?? this.#sent.text() }),
      ...(spoken && { protocol: spoken.protocol, operation: operationName(spoken.operation), isQuery: spoken.isQuery }),
      status: this.#status,
      bytes: this.#got.bytes,
      answer:
        isWhole && this.#status !== undefined
          ? `${this.#status} ${answer === '' ? this.#got.text() : digestOf(answer).slice(0, 22)}`
          : undefined,
    })
  }
}
