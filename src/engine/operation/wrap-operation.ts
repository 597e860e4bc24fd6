import { isFresh } from '../../core/decide/entry-times.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions, RuleOptions } from '../../core/endpoints/options.js'
import { ArgumentsUnkeyableError } from '../../core/errors/call-errors.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { argumentKey, canonicalKey, type KeyOwner } from '../../core/rules/argument-key.js'
import type { CallRunner } from '../answer/call-runner.js'
import { type CallTerms, termsOf } from '../call/call.js'
import type { CallRecorder } from '../call/call-record.js'
import type { Events } from '../events.js'
import type { LedgerWriter } from '../ledger/ledger-writer.js'
import { OperationCall, operationForm, valueOfEntry } from './operation-call.js'
import type { OperationValue } from './operation-value.js'
import { mayUseReceiver } from './receiver.js'

/** A function that can be wrapped: it takes what it likes and returns a promise. */
export type AsyncFunction = (...args: never[]) => Promise<unknown>

export type OperationOptions<F extends AsyncFunction = AsyncFunction> = RuleOptions & {
  /** Returns what tells one answer from another, as plain JSON data, in place of the arguments. */
  readonly keyedBy?: (...args: Parameters<F>) => unknown
  /** What a caller gets where the function fails and no older value may be given. Default: the failure itself. */
  readonly fallback?: { readonly value: Awaited<ReturnType<F>> }
}

/** A wrapped function: called like the one it wraps, and able to say how a call was answered. */
export type Operation<F extends AsyncFunction> = F & {
  /** Calls the operation and returns, beside the value, how the call was answered. */
  withOutcome(...args: Parameters<F>): Promise<{ value: Awaited<ReturnType<F>>; outcome: Outcome }>
  /** The same operation, called on other terms than its rule's. */
  calling(options: CallOptions): Operation<F>
}

export interface OperationParts {
  readonly entries: EntryStore
  readonly clock: Clock
  readonly ledger: LedgerWriter
  readonly runner: CallRunner
  readonly recorder: CallRecorder
  readonly events: Events
  /** Throws once the stash is closed. */
  readonly assertOpen: () => void
}

/** Keys of one-string calls remembered for an operation, at the most. */
const mostKeys = 1_000

/** Wraps `fn` so that its answers are reused as `endpoint` says. */
export function wrapOperation<F extends AsyncFunction>(
  endpoint: Endpoint,
  fn: F,
  { keyedBy, fallback, retries }: OperationOptions<F>,
  parts: OperationParts,
): Operation<F> {
  const { entries, clock, runner, recorder, ledger, events } = parts
  const { provider, name, version, mode, freshForMs, refreshAheadMs } = endpoint
  const owner = { provider, name, prefix: `${provider}.${name}${version === undefined ? '' : `@${version}`}` }
  const counter = ledger.counter(provider, name, mode)
  const looksUp = mode !== 'measure' && freshForMs !== undefined && endpoint.slidingMs === undefined
  const form = operationForm(fallback)
  const keys = new Map<string, string>()
  const ruled = termsOf(endpoint, undefined)
  const readsReceiver = !keyedBy && mayUseReceiver(fn)

  function keyOf(self: unknown, args: Parameters<F>): string {
    if (keyedBy) return canonicalKey(owner, keyedBy.apply(self, args))
    if (readsReceiver && self !== undefined && self !== globalThis) throw calledAsMethod(owner)
    const only = args.length === 1 ? (args[0] as unknown) : undefined
    if (typeof only !== 'string') return argumentKey(owner, args)
    let key = keys.get(only)
    if (key === undefined) {
      if (keys.size >= mostKeys) keys.clear()
      key = argumentKey(owner, args)
      keys.set(only, key)
    }
    return key
  }

  function run(self: unknown, args: Parameters<F>, key: string, terms: CallTerms, first?: Maybe<Entry | undefined>) {
    const work = () => fn.apply(self, args)
    return runner.run<OperationValue>(
      new OperationCall({ endpoint, counter, form, isRepeatable: retries !== undefined, clock }, key, terms, work),
      first,
    )
  }

  async function answerTo(self: unknown, args: Parameters<F>, key: string, first?: Maybe<Entry | undefined>): Promise<unknown> {
    const { answer } = await run(self, args, key, ownTerms(ruled), first)
    return answer.read()
  }

  /** A fresh answer that the store gives at once is returned without waiting for anything. */
  function operation(this: unknown, ...args: Parameters<F>): Promise<unknown> {
    let key: string
    try {
      parts.assertOpen()
      key = keyOf(this, args)
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
      value = valueOfEntry(first).read()
    } catch {
      return answerTo(this, args, key, first)
    }
    recorder.hit({ counter }, first, now, 0)
    return Promise.resolve(value)
  }

  const withTerms = (terms: CallTerms) =>
    async function withOutcome(this: unknown, ...args: Parameters<F>) {
      parts.assertOpen()
      const self = isOwn(this) ? undefined : this
      const { answer, outcome } = await run(self, args, keyOf(self, args), ownTerms(terms))
      return { value: answer.read() as Awaited<ReturnType<F>>, outcome }
    }

  function calling(options: CallOptions): Operation<F> {
    const withOutcome = withTerms(termsOf(endpoint, options))
    const call = async function (this: unknown, ...args: Parameters<F>) {
      return (await withOutcome.apply(this, args)).value
    }
    return own(Object.assign(call as unknown as F, { withOutcome, calling }))
  }

  return own(Object.assign(operation as unknown as F, { withOutcome: withTerms(ruled), calling }))
}

/** Operations, which are no receivers of the functions that they wrap. */
const operations = new WeakSet<object>()

function own<T extends object>(operation: T): T {
  operations.add(operation)
  return operation
}

function isOwn(self: unknown): boolean {
  return typeof self === 'function' && operations.has(self)
}

function calledAsMethod({ provider, name }: KeyOwner): Error {
  return new ArgumentsUnkeyableError(
    provider,
    name,
    `operation "${provider}.${name}" was called as a method, and its function may use "this", which is no part of its key: wrap a bound function, as in vessel.find.bind(vessel), under a name for each object, or give the operation a "keyedBy" function that returns what distinguishes its answers`,
  )
}

/** Terms that a call may change for itself. */
function ownTerms(terms: CallTerms): CallTerms {
  return { ...terms, urgency: { ...terms.urgency } }
}
