import { isFresh } from '../../core/decide/entry-times.js'
import type { Explanation } from '../../core/decide/explanation.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions, RuleOptions } from '../../core/endpoints/options.js'
import type { WarmSummary } from '../../core/entries/warm-summary.js'
import { UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { ownCopy } from '../../core/rules/own-copy.js'
import { yesOrNo } from '../../core/rules/yes-or-no.js'
import type { CallRunner } from '../answer/call-runner.js'
import { explained } from '../answer/explained.js'
import { type PutAnswer, type PutParts, putAnswer } from '../answer/put-answer.js'
import type { RunningCalls } from '../answer/running-calls.js'
import { countOf, type WarmOptions, warmLabel, warmTerms } from '../answer/warm-options.js'
import { type Warming, warm } from '../answer/warming.js'
import { type CallTerms, termsOf } from '../call/call.js'
import type { CallRecorder } from '../call/call-record.js'
import type { Events } from '../events.js'
import type { Gate } from '../gate/gate.js'
import { lateTurn } from '../late-turn.js'
import type { LedgerWriter } from '../ledger/ledger-writer.js'
import { callsAround } from '../nested-calls.js'
import { OperationCall, type OperationParts, operationForm, valueOfEntry } from './operation-call.js'
import { OperationKeys } from './operation-keys.js'
import { type AsyncFunction, changedBy, compiledLabels, type OperationLabel } from './operation-labels.js'
import type { OperationValue, ValueForm } from './operation-value.js'

export type OperationOptions<F extends AsyncFunction = AsyncFunction> = RuleOptions & {
  /** Returns what tells one answer from another, as plain JSON data, in place of the arguments. */
  readonly keyedBy?: (...args: Parameters<F>) => unknown
  /** Says of which arguments nothing is reused. Where it fails, nothing is reused either, and `warn` is told. */
  readonly exceptArguments?: (...args: Parameters<F>) => boolean
  /**
   * Names under which its values are invalidated with other answers, of whatever endpoint: texts; `{ as: "tariff {}", argument: "/0/tariff" }`;
   * `{ as: "vessel {}", answer: "/vessels", each: "/id" }`; or functions of the value and the arguments. A value is not stored whose function fails.
   */
  readonly labels?: readonly OperationLabel<F>[]
  /** Labels whose answers a call invalidates once its function has returned, before its caller has the value: of an operation that writes. */
  readonly invalidates?: readonly OperationLabel<F>[]
  /** How values are stored that are not plain data: instances of classes. Default: as they are, where they can be given back exactly. */
  // biome-ignore lint/suspicious/noExplicitAny: what is stored of a value is between the two functions
  readonly form?: ValueForm<Awaited<ReturnType<F>>, any>
  /** What a caller gets where the function fails and no older value may be given. Default: the failure itself. */
  readonly fallback?: { readonly value: Awaited<ReturnType<F>> }
}

/**
 * A wrapped function: called like the one it wraps, and able to say how a call was answered. Whoever is the first to ask gets the very value
 * that the function returned, all others one of their own that holds the same.
 */
export type Operation<F extends AsyncFunction> = ((
  this: ThisParameterType<F>,
  ...args: Parameters<F>
) => Promise<Awaited<ReturnType<F>>>) & {
  /** Calls the operation and returns, beside the value, how the call was answered. */
  withOutcome(...args: Parameters<F>): Promise<{ value: Awaited<ReturnType<F>>; outcome: Outcome }>
  /** The same operation, called on other terms than its rule's. */
  calling(options: CallOptions): Operation<F>
  /** Stores a value for these arguments, as if a call had returned it now. Nothing is called or counted; what is on its way comes too late. */
  put(args: Parameters<F>, value: Awaited<ReturnType<F>>): Promise<PutAnswer>
  /** Fetches values in advance, as `stash.warm` does, for lists of arguments. */
  warm(lists: Iterable<Parameters<F>> | AsyncIterable<Parameters<F>>, options?: WarmOptions): Promise<WarmSummary>
  /** What a call with these arguments would do now, and why. Nothing is called, stored or counted. */
  explain(...args: Parameters<F>): Promise<Explanation>
}

export interface WrapParts {
  readonly entries: EntryStore
  readonly clock: Clock
  readonly ledger: LedgerWriter
  readonly runner: CallRunner
  readonly recorder: CallRecorder
  readonly events: Events
  readonly gate: Gate
  readonly putting: PutParts
  /** Invalidates what has one of these labels, stored or on its way. */
  readonly invalidateLabels: (labels: readonly string[]) => Promise<void>
  readonly warming: Warming
  readonly running: RunningCalls
  readonly warn: (message: string) => void
  /** Throws once the stash is closed. */
  readonly assertOpen: () => void
  readonly checkCallOptions: (options: CallOptions) => void
}

/** Wraps `fn` so that its answers are reused as `endpoint` says. */
export function wrapOperation<F extends AsyncFunction>(
  endpoint: Endpoint,
  fn: F,
  { keyedBy, exceptArguments, labels, invalidates, form: valueForm, fallback, retries }: OperationOptions<F>,
  parts: WrapParts,
): Operation<F> {
  const { entries, clock, runner, recorder, ledger, events } = parts
  const { provider, name, mode, freshForMs, refreshAheadMs } = endpoint
  const counter = ledger.counter(provider, name, mode)
  const looksUp = mode !== 'measure' && freshForMs !== undefined && endpoint.slidingMs === undefined && !exceptArguments
  const form = operationForm(fallback, valueForm as ValueForm | undefined)
  const keys = new OperationKeys(endpoint, fn, keyedBy)
  const [inexact, functions, changed] = [new OncePerEpisode(parts.warn), new OncePerEpisode(parts.warn), new OncePerEpisode(parts.warn)]
  const operation: OperationParts = {
    ...{ endpoint, counter, form, valueForm: valueForm as ValueForm | undefined, isRepeatable: retries !== undefined, clock },
    ...{ labels: compiledLabels(labels), changed: changedBy(compiledLabels(invalidates), endpoint, parts) },
    argumentsChanged: () =>
      changed.trouble(
        `results of ${provider}.${name} are not stored`,
        'an argument was changed while its call waited; give the operation arguments that are not changed, or plain data, which is copied',
      ),
    inexact: (error) =>
      inexact.trouble(
        `values of ${provider}.${name} are passed on and not stored: return plain data, or give the operation a "form" with "toPlain" and "fromPlain"`,
        error,
      ),
  }
  const ruled = termsOf(endpoint, undefined)
  const reloading = termsOf(endpoint, { reload: true })
  const warmed = termsOf(endpoint, { background: true, label: warmLabel })

  function callOf(self: unknown, args: Parameters<F>, terms: CallTerms, key = keys.of(self, args)): OperationCall {
    const own = { ...terms, urgency: { ...terms.urgency } } // which a call may change for itself
    const keyOf = (now: readonly unknown[]) => keys.of(self, now)
    const asked = { key, args, terms: own, isExcepted: isExcepted(args), within: callsAround(), keyOf }
    return new OperationCall(operation, asked, (copy) => fn.apply(self, copy as Parameters<F>))
  }

  function isExcepted(args: Parameters<F>): boolean {
    try {
      const is = yesOrNo(exceptArguments?.(...args), 'exceptArguments')
      if (exceptArguments) functions.fine()
      return is
    } catch (error) {
      functions.trouble(`"exceptArguments" of ${provider}.${name} fails, nothing is reused until it does not`, error)
      return true
    }
  }

  async function answerTo(self: unknown, args: Parameters<F>, key: string, first?: Maybe<Entry | undefined>): Promise<unknown> {
    const { answer } = await runner.run<OperationValue>(callOf(self, args, ruled, key), first)
    return answer.read()
  }

  /** A fresh answer that the store gives at once is returned without waiting for anything. */
  function wrapped(this: unknown, ...args: Parameters<F>): Promise<unknown> {
    let key: string
    try {
      parts.assertOpen()
      key = keys.of(this, args)
    } catch (error) {
      return Promise.reject(error)
    }
    if (!looksUp) return answerTo(this, args, key)
    const first = entries.get(key)
    if (first === undefined || first instanceof Promise) return answerTo(this, args, key, first)
    const now = clock.now()
    if (!isFresh(first, freshForMs, now) || first.freshUntil - now <= refreshAheadMs || events.callsHeard) {
      return answerTo(this, args, key, first)
    }
    let value: unknown
    try {
      value = valueOfEntry(first, operation.valueForm).read()
    } catch {
      return answerTo(this, args, key, first)
    }
    entries.given?.(first, now, true)
    recorder.hit({ counter }, first, now, { ms: 0, status: undefined, foundIn: entries.foundIn?.(first) })
    const late = lateTurn(clock)
    return late ? late.then(() => value) : Promise.resolve(value)
  }

  /** What a wrapped function can do besides being called, on some terms. */
  function able<T extends object>(called: T, terms: CallTerms): Operation<F> {
    const prepared = (self: unknown, args: Parameters<F>) => {
      parts.assertOpen()
      const receiver = self === called ? undefined : self
      return callOf(receiver, args, terms)
    }
    return Object.assign(called as unknown as Operation<F>, {
      async withOutcome(this: unknown, ...args: Parameters<F>) {
        const { answer, outcome } = await runner.run<OperationValue>(prepared(this, args))
        return { value: answer.read() as Awaited<ReturnType<F>>, outcome }
      },
      async explain(this: unknown, ...args: Parameters<F>): Promise<Explanation> {
        const call = prepared(this, args)
        return { provider, endpoint: name, nearMisses: [], leftOut: [], ...(await explained(parts, call, () => 'rule')) }
      },
      async put(this: unknown, args: Parameters<F>, value: unknown): Promise<PutAnswer> {
        parts.assertOpen()
        if (!Array.isArray(args)) throw new UsageError(`the first argument of put is ${shown(args)}: give the arguments as a list`)
        const receiver = this === called ? undefined : this
        const own = ownCopy(value)
        const asked = { key: keys.of(receiver, args), args, terms: reloading, isExcepted: isExcepted(args), within: [] }
        const call = new OperationCall(operation, { ...asked, keyOf: () => asked.key }, async () => own)
        return putAnswer(parts.putting, call)
      },
      async warm(this: unknown, lists: Iterable<Parameters<F>> | AsyncIterable<Parameters<F>>, options: WarmOptions = {}) {
        parts.assertOpen()
        const receiver = this === called ? undefined : this
        async function* each() {
          for await (const args of lists) yield () => callOf(receiver, args, warmed)
        }
        return parts.running.track(warm(parts.warming, { of: countOf(lists), each: each() }, warmTerms(options)))
      },
      calling,
    })
  }

  function calling(options: CallOptions): Operation<F> {
    parts.checkCallOptions(options)
    const terms = termsOf(endpoint, options)
    async function call(this: unknown, ...args: Parameters<F>) {
      parts.assertOpen()
      return (await runner.run<OperationValue>(callOf(this, args, terms))).answer.read()
    }
    return able(call, terms)
  }

  return able(wrapped, ruled)
}
