import { isFresh } from '../../core/decide/entry-times.js'
import { keepValue } from '../../core/decide/keep.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { CallOptions, RuleOptions } from '../../core/endpoints/options.js'
import { noDirectives } from '../../core/http/request-directives.js'
import { countHit } from '../../core/ledger/tally.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Store } from '../../core/ports/store.js'
import { argumentKey, canonicalKey } from '../../core/rules/argument-key.js'
import type { AnswerFacts } from '../../core/rules/freshness.js'
import { unitsOf } from '../../core/rules/units.js'
import type { CallRunner } from '../answer/call-runner.js'
import { type Answered, type CallTerms, type Fetched, type Finished, termsOf } from '../call/call.js'
import type { Events } from '../events.js'
import type { LedgerWriter } from '../ledger/ledger-writer.js'
import { type OperationValue, storableValue, storedValue, unchangeable } from './operation-value.js'

/** A function that can be wrapped: it takes what it likes and returns a promise. */
export type AsyncFunction = (...args: never[]) => Promise<unknown>

export interface OperationOptions<F extends AsyncFunction = AsyncFunction> extends RuleOptions {
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
  readonly store: Store
  readonly clock: Clock
  readonly books: LedgerWriter
  readonly runner: CallRunner
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
  const { store, clock, runner, books, events } = parts
  const instead = fallback && storableValue(fallback.value)
  const { freshForMs, refreshAheadMs } = endpoint
  const { version } = endpoint
  const { provider, name } = endpoint
  const owner = { provider, name, prefix: `${provider}.${name}${version === undefined ? '' : `@${version}`}` }
  const line = books.line(endpoint.provider, endpoint.name, endpoint.mode)
  const lookUp = endpoint.mode !== 'measure' && freshForMs !== undefined && endpoint.slidingMs === undefined
  const keys = new Map<string, string>()
  const ruled = termsOf(endpoint, undefined)

  function keyOf(args: Parameters<F>): string {
    if (keyedBy) return canonicalKey(owner, keyedBy(...args))
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

  function run(
    self: unknown,
    args: Parameters<F>,
    key: string,
    terms: CallTerms,
    looked?: Entry | Promise<Entry | undefined>,
  ): Promise<Answered<OperationValue>> {
    return runner.run<OperationValue>(
      {
        endpoint,
        line,
        key,
        variantKey: () => key,
        ...{ bypass: undefined, excerpt: undefined, directives: noDirectives, search: undefined, signal: undefined },
        canServe: () => true,
        canJoin: () => true,
        slides: () => true,
        ...{ ...terms, urgency: { ...terms.urgency }, repeatable: retries !== undefined, sent: {} },
        fallback: fallback && (() => instead?.value ?? unchangeable(fallback.value)),
        callUpstream: (_ending, _stale, leave) => fetchValue(endpoint, clock, leave, () => fn.apply(self, args)),
        revive: valueOfEntry,
        copy: (shared) => shared,
      },
      looked,
    )
  }

  async function ask(self: unknown, args: Parameters<F>, key: string, looked?: Entry | Promise<Entry | undefined>): Promise<unknown> {
    const { answer } = await run(self, args, key, ruled, looked)
    return answer.read()
  }

  /** A fresh answer that the store gives at once is returned without waiting for anything. */
  function operation(this: unknown, ...args: Parameters<F>): Promise<unknown> {
    let key: string
    try {
      parts.assertOpen()
      key = keyOf(args)
    } catch (error) {
      return Promise.reject(error)
    }
    if (!lookUp) return ask(this, args, key)
    const looked = store.entries.get(key)
    if (looked === undefined || looked instanceof Promise) return ask(this, args, key, looked)
    const now = clock.now()
    if (!isFresh(looked, freshForMs, now) || looked.freshUntil - now <= refreshAheadMs || events.callsHeard) {
      return ask(this, args, key, looked)
    }
    let value: unknown
    try {
      value = valueOfEntry(looked).read()
    } catch {
      return ask(this, args, key, looked)
    }
    countHit(line.at(now), looked, now, 0)
    return Promise.resolve(value)
  }

  const withTerms = (terms: CallTerms) =>
    async function withOutcome(this: unknown, ...args: Parameters<F>) {
      parts.assertOpen()
      const { answer, outcome } = await run(this, args, keyOf(args), terms)
      return { value: answer.read() as Awaited<ReturnType<F>>, outcome }
    }

  function calling(options: CallOptions): Operation<F> {
    const withOutcome = withTerms(termsOf(endpoint, options))
    const call = async function (this: unknown, ...args: Parameters<F>) {
      return (await withOutcome.apply(this, args)).value
    }
    return Object.assign(call as unknown as F, { withOutcome, calling })
  }

  return Object.assign(operation as unknown as F, { withOutcome: withTerms(ruled), calling })
}

async function fetchValue(
  endpoint: Endpoint,
  clock: Clock,
  leave: () => Promise<void>,
  call: () => Promise<unknown>,
): Promise<Fetched<OperationValue>> {
  let value: unknown
  try {
    await leave()
    value = await call()
  } catch (error) {
    return { result: 'failed', error }
  }
  const now = clock.now()
  const storable = storableValue(value)
  const finished = (): Finished => {
    if (failsBy(endpoint, value)) return { amiss: new Error(`the value of ${endpoint.provider}.${endpoint.name} says that it failed`) }
    if (!storable) return { notKept: 'inexact' }
    const { head, body } = storable
    if (body.byteLength > endpoint.maxBodyBytes) return { notKept: 'too-large' }
    const facts: AnswerFacts = { status: undefined, header: () => null, json: () => storable.value.read() }
    return {
      kept: {
        units: unitsOf(endpoint.units, facts),
        judge: (key) => keepValue(endpoint, key, facts, now),
        form: () => ({ head, body, memo: storable.value }),
      },
    }
  }
  return { result: 'answered', answer: storable?.value ?? unchangeable(value), whole: true, finish: async () => finished(), release() {} }
}

/** A function of the configuration that fails says nothing: the value counts as it is. */
function failsBy({ failure, mode }: Endpoint, value: unknown): boolean {
  if (mode === 'measure') return false
  try {
    return failure.test?.({ status: undefined, header: () => null, json: () => value }) ?? false
  } catch {
    return false
  }
}

/** The value that an entry holds; throws, the first time, where it holds none. */
function valueOfEntry(entry: Entry): OperationValue {
  if (entry.memo === undefined) {
    const value = storedValue(entry.head, entry.body)
    value.read()
    entry.memo = value
  }
  return entry.memo as OperationValue
}
