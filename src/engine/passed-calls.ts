import { resultOfStatus } from '../core/decide/keep.js'
import type { Outcome } from '../core/decide/outcome.js'
import { UpstreamTimeoutError } from '../core/errors.js'
import { narrowed } from '../core/http/no-vary-search.js'
import { signpostOf } from '../core/http/variants.js'
import { unmatched } from '../core/ledger/ledger-row.js'
import { costOfCall } from '../core/money/flat-price.js'
import type { Clock } from '../core/ports/clock.js'
import type { Store } from '../core/ports/store.js'
import type { Endpoint } from '../core/rules/endpoint.js'
import { placeOfRequest } from '../core/rules/request-key.js'
import type { RuleBook } from '../core/rules/rule-book.js'
import type { CallRunner } from './call-runner.js'
import type { Matched } from './http-asks.js'
import type { Fetch } from './http-upstream.js'

export interface PassedCallsParts {
  readonly rules: RuleBook
  readonly store: Store
  readonly clock: Clock
  readonly runner: CallRunner
  readonly fetch: Fetch
}

/** Methods that change nothing (RFC 9110 section 9.2.1). */
const safeMethods = ['GET', 'HEAD', 'OPTIONS', 'TRACE']

/** Sends calls on untouched that no rule holds for, counts them, and notices what they may have changed. */
export class PassedCalls {
  readonly #parts: PassedCallsParts

  constructor(parts: PassedCallsParts) {
    this.#parts = parts
  }

  /** An endpoint's timeout holds until the answer begins. */
  async pass(
    { provider, endpoint, method, url, line }: Matched,
    input: Parameters<Fetch>[0],
    init: Parameters<Fetch>[1],
  ): Promise<{ response: Response; outcome: Outcome }> {
    const { clock, fetch } = this.#parts
    const began = clock.ticks()
    const timed = endpoint && this.#timed(endpoint, input, init)
    let result: ReturnType<typeof resultOfStatus> = 'failed'
    let status: number | undefined
    try {
      const response = await fetch(input, timed?.init ?? init)
      status = response.status
      result = resultOfStatus(status)
      const asksOnly = safeMethods.includes(method) || endpoint?.freshForMs !== undefined
      if (!asksOnly && status >= 200 && status < 400) await this.#outdate(url, response)
      const outcome: Outcome = {
        ...{ provider: provider?.name ?? unmatched, endpoint: endpoint?.name ?? unmatched, how: 'passed', fwd: 'bypass' },
        ...{ reason: whyNoRule(endpoint), upstreamStatus: status, ageMs: 0 },
        cost: endpoint && costOfCall(endpoint, status === 304 ? 'unmodified' : result),
      }
      return { response, outcome }
    } finally {
      timed?.cancel()
      const tally = line.at(clock.now())
      tally[result === 'answered' ? 'forwarded' : 'letDown']++
      tally[result === 'answered' ? 'upAnswered' : result === 'refused' ? 'upRefused' : 'upFailed']++
      if (status === 304) tally.upUnmodified++
      tally.latency.add(clock.ticks() - began)
    }
  }

  /**
   * Has what is stored for a URL count as out of date once a request that may have changed it was answered, and what is stored for URLs
   * of the same origin that the answer names (RFC 9111 section 4.4).
   */
  async #outdate(url: URL, response: Response): Promise<void> {
    const named = ['location', 'content-location'].flatMap((field) => {
      const target = response.headers.get(field)
      return target !== null && URL.canParse(target, url.href) ? [new URL(target, url.href)] : []
    })
    for (const target of [url, ...named.filter(({ origin }) => origin === url.origin)]) {
      for (const method of ['GET', 'POST']) await this.#outdateOne(method, target)
    }
  }

  async #outdateOne(method: string, url: URL): Promise<void> {
    const { rules, runner, store } = this.#parts
    const { provider, endpoint } = rules.match(method, url)
    if (!provider || !endpoint || endpoint.freshForMs === undefined) return
    const { keying } = endpoint
    const request = { method, url, header: () => null }
    try {
      await runner.outdate(placeOfRequest(provider, keying, request))
      const path = placeOfRequest(provider, { ...keying, usesParameter: () => false }, request)
      const signpost = signpostOf((await store.get(`${path} search`))?.head ?? '')
      if (signpost && 'search' in signpost) await runner.outdate(placeOfRequest(provider, narrowed(keying, signpost.search), request))
    } catch {
      // a key function that needs more of a request than its URL: nothing can be said of what is stored
    }
  }

  /** The options of a call with a signal that also aborts when the endpoint's time is over. */
  #timed({ provider, name, timeoutMs }: Endpoint, input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]) {
    const overdue = new AbortController()
    const cancel = this.#parts.clock.later(timeoutMs, () => overdue.abort(new UpstreamTimeoutError(provider, name, timeoutMs)))
    const own = init?.signal ?? (input instanceof Request ? input.signal : undefined)
    return { cancel, init: { ...init, signal: own ? AbortSignal.any([own, overdue.signal]) : overdue.signal } }
  }
}

/** Why no rule holds for a request that its endpoint, if it has one, gave no key. */
export function whyNoRule(endpoint: Endpoint | undefined): 'no-endpoint' | 'not-reusable' | 'no-key' {
  if (!endpoint) return 'no-endpoint'
  return endpoint.freshForMs === undefined ? 'not-reusable' : 'no-key'
}
