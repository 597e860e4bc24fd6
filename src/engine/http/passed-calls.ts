import type { UpstreamCallFacts } from '../../core/decide/events.js'
import { resultOfStatus } from '../../core/decide/keep.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions } from '../../core/endpoints/options.js'
import type { RuleBook } from '../../core/endpoints/rule-book.js'
import { unmatched } from '../../core/endpoints/unmatched.js'
import { UpstreamTimeoutError } from '../../core/errors/call-errors.js'
import { errorWords } from '../../core/errors/error-text.js'
import { narrowed } from '../../core/http/no-vary-search.js'
import { signpostOf } from '../../core/http/variants.js'
import { countStatus, countTime } from '../../core/ledger/tally.js'
import { reportedBy, reportsAnything, saysWhen } from '../../core/limits/reported-limits.js'
import { costOfCall, endingOf } from '../../core/money/billed-calls.js'
import type { Units } from '../../core/money/units.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Store } from '../../core/ports/store.js'
import { placeOfRequest } from '../../core/rules/request-key.js'
import { unitsOf } from '../../core/rules/units.js'
import type { CallRunner } from '../answer/call-runner.js'
import { termsOf } from '../call/call.js'
import type { Events } from '../events.js'
import type { Pass } from '../gate/call-queue.js'
import type { Gate } from '../gate/gate.js'
import type { EndpointCounter } from '../ledger/ledger-writer.js'
import { fieldsOf } from './http-answer.js'
import { type Matched, withoutSecrets } from './http-call.js'
import type { Fetch } from './http-upstream.js'

export interface PassedCallsParts {
  readonly rules: RuleBook
  readonly store: Store
  readonly clock: Clock
  readonly runner: CallRunner
  readonly gate: Gate
  readonly events: Events
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

  /** It leaves through the gate of its provider, on the terms of its endpoint; the timeout holds until the answer begins. */
  async pass(
    { provider, endpoint, method, url, mode, line }: Matched,
    input: Parameters<Fetch>[0],
    init: Parameters<Fetch>[1],
    wanted: CallOptions | undefined,
  ): Promise<{ response: Response; outcome: Outcome }> {
    const { clock, fetch } = this.#parts
    const began = clock.ticks()
    const rule = endpoint ?? provider?.rest
    let pass: Pass | undefined
    let left: number | undefined
    let leftTicks = 0
    let ending: AbortController | undefined
    let cancel = () => {}
    let result: ReturnType<typeof resultOfStatus> = 'failed'
    let status: number | undefined
    let trouble: unknown
    try {
      const own = init?.signal ?? (input instanceof Request ? input.signal : undefined)
      pass = rule && rule.mode !== 'measure' ? await this.#enter(rule, own, wanted) : undefined
      left = clock.now()
      leftTicks = clock.ticks()
      const timed = endpoint && this.#timed(endpoint, own)
      if (timed) ({ ending, cancel } = timed)
      const response = await fetch(input, timed ? { ...init, signal: timed.signal } : init)
      status = response.status
      result = resultOfStatus(status, endpoint?.failure.statuses)
      const told = reportedBy(status, fieldsOf(response.headers), clock.now(), rule?.reportedQuota)
      if (pass && reportsAnything(told)) await pass.told(told)
      const passing = pass
      pass = undefined
      const end = (units?: Units) =>
        passing?.end({
          ...{ how: result, what: `answered with status ${status}`, saidWhen: saysWhen(told) },
          ...{ ending: endingOf(result, status), units },
        })
      const units = endpoint?.units && result === 'answered' ? countedUnits(endpoint, line, clock, response) : undefined
      if (units) void this.#parts.runner.track(units.then(end))
      else await end()
      const asksOnly = safeMethods.includes(method) || endpoint?.freshForMs !== undefined
      if (!asksOnly && status >= 200 && status < 400) await this.#invalidate(url, response)
      const outcome: Outcome = {
        ...{ provider: provider?.name ?? unmatched, endpoint: endpoint?.name ?? unmatched, how: 'passed', fwd: 'bypass' },
        ...{ reason: whyNoRule(endpoint), upstreamStatus: status, ageMs: 0 },
        cost: endpoint && costOfCall(endpoint, endingOf(result, status)),
      }
      return { response, outcome }
    } catch (error) {
      trouble = error
      throw error
    } finally {
      cancel()
      const gone = trouble !== undefined && !(ending?.signal.aborted ?? true)
      await pass?.end({ how: gone && isAbort(trouble) ? 'left' : 'failed', what: errorWords(trouble), ending: 'noAnswer' })
      const ms = clock.ticks() - began
      const tally = line.at(clock.now())
      tally[result === 'answered' ? 'forwarded' : 'errored']++
      if (left !== undefined) tally[result === 'answered' ? 'upAnswered' : result === 'refused' ? 'upRefused' : 'upFailed']++
      if (left !== undefined) countStatus(tally, result, status)
      if (left !== undefined && wanted?.background) tally.upBackground++
      if (result === 'answered') countTime(tally, clock.ticks() - leftTicks)
      tally.latency.add(ms)
      this.#tell({ provider, endpoint, method, url, mode }, { how: result, status, left, ms, error: trouble })
    }
  }

  #enter(endpoint: Endpoint, signal: AbortSignal | null | undefined, wanted: CallOptions | undefined): Promise<Pass> {
    const { urgency, atLimit, maxWaitMs } = termsOf(endpoint, wanted)
    return this.#parts.gate.enter({
      ...{ endpoint, urgency, waitMs: atLimit === 'refuse' ? 0 : maxWaitMs },
      signal: signal ?? new AbortController().signal,
    })
  }

  #tell(
    { provider, endpoint, method, url, mode }: Pick<Matched, 'provider' | 'endpoint' | 'method' | 'url' | 'mode'>,
    {
      how,
      status,
      left,
      ms,
      error,
    }: { how: 'answered' | 'refused' | 'failed'; left: number | undefined; ms: number } & Pick<UpstreamCallFacts, 'status' | 'error'>,
  ): void {
    const { events } = this.#parts
    const spot = { provider: provider?.name ?? unmatched, endpoint: endpoint?.name ?? unmatched }
    if (left !== undefined && events.heard('upstream')) {
      const shown = provider ? withoutSecrets(url.href, provider) : `${url.origin}${url.pathname}`
      events.tell('upstream', { ...spot, how, method, url: shown, status, beganAt: left, ms, attempt: 1, inBackground: false, mode, error })
    }
    if (events.heard('call')) {
      events.tell('call', { ...spot, mode, how: how === 'answered' ? 'passed' : 'failed', reason: whyNoRule(endpoint), ms, error })
    }
  }

  /**
   * Has what is stored for a URL count as out of date once a request that may have changed it was answered, and what is stored for URLs
   * of the same origin that the answer names (RFC 9111 section 4.4).
   */
  async #invalidate(url: URL, response: Response): Promise<void> {
    const named = ['location', 'content-location'].flatMap((field) => {
      const target = response.headers.get(field)
      return target !== null && URL.canParse(target, url.href) ? [new URL(target, url.href)] : []
    })
    for (const target of [url, ...named.filter(({ origin }) => origin === url.origin)]) {
      for (const method of ['GET', 'POST']) await this.#invalidateOne(method, target)
    }
  }

  async #invalidateOne(method: string, url: URL): Promise<void> {
    const { rules, runner, store } = this.#parts
    const { provider, endpoint } = rules.match(method, url)
    if (!provider || !endpoint || endpoint.freshForMs === undefined) return
    const { keying } = endpoint
    const request = { method, url, header: () => null }
    try {
      await runner.invalidate(placeOfRequest(provider, keying, request))
      const path = placeOfRequest(provider, { ...keying, usesParameter: () => false }, request)
      const signpost = signpostOf((await store.entries.get(`${path} search`))?.head ?? '')
      if (signpost && 'search' in signpost) await runner.invalidate(placeOfRequest(provider, narrowed(keying, signpost.search), request))
    } catch {
      // a key function that needs more of a request than its URL: nothing can be said of what is stored
    }
  }

  /** A signal that also aborts when the endpoint's time is over. */
  #timed({ provider, name, timeouts }: Endpoint, own: AbortSignal | null | undefined) {
    const { firstByteMs } = timeouts
    const ending = new AbortController()
    const late = () => ending.abort(new UpstreamTimeoutError(provider, name, 'firstByte', firstByteMs))
    const cancel = this.#parts.clock.later(firstByteMs, late)
    return { ending, cancel, signal: own ? AbortSignal.any([own, ending.signal]) : ending.signal }
  }
}

/** Counts the units that an answer cost, once it has been read to its end; the caller's own answer is not touched. */
async function countedUnits(
  { units: sources, maxBodyBytes }: Endpoint,
  line: EndpointCounter,
  clock: Clock,
  response: Response,
): Promise<Units | undefined> {
  const head = { status: response.status, header: (name: string) => response.headers.get(name) }
  const readsBody = Object.values(sources ?? {}).some((source) => typeof source === 'function' || 'at' in source)
  const text = readsBody ? await textUpTo(response.clone(), maxBodyBytes) : ''
  const units = unitsOf(sources, { ...head, json: () => JSON.parse(text) })
  for (const kind of ['made', 'asked'] as const) line.at(clock.now()).addUnits(kind, units)
  return units
}

/** The text of a body; empty where it is longer, or breaks off. */
async function textUpTo({ body }: Response, most: number): Promise<string> {
  const [decoder, reader] = [new TextDecoder(), body?.getReader()]
  let [text, length] = ['', 0]
  try {
    for (let piece = await reader?.read(); piece && !piece.done; piece = await reader?.read()) {
      length += piece.value.byteLength
      if (length > most) {
        void reader?.cancel()
        return ''
      }
      text += decoder.decode(piece.value, { stream: true })
    }
    return text
  } catch {
    return ''
  }
}

function isAbort(error: unknown): boolean {
  return error instanceof Error && error.name === 'AbortError'
}

/** Why no rule holds for a request that its endpoint, if it has one, gave no key. */
export function whyNoRule(endpoint: Endpoint | undefined): 'no-endpoint' | 'not-reusable' | 'no-key' {
  if (!endpoint) return 'no-endpoint'
  return endpoint.freshForMs === undefined ? 'not-reusable' : 'no-key'
}
