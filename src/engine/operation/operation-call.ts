import { keepValue } from '../../core/decide/keep.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { noDirectives } from '../../core/http/request-directives.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { AnswerFacts } from '../../core/rules/freshness.js'
import { unitsOf } from '../../core/rules/units.js'
import type { AnswerForm } from '../call/answer-form.js'
import type { Call, CallTerms } from '../call/call.js'
import type { Fetched, Finished } from '../call/fetched.js'
import type { EndpointCounter } from '../ledger/endpoint-counter.js'
import { type OperationValue, storableValue, storedValue, unchangeable } from './operation-value.js'

/** What the calls of an operation have in common. */
export interface OperationParts {
  readonly endpoint: Endpoint
  readonly counter: EndpointCounter
  readonly form: AnswerForm<OperationValue>
  readonly isRepeatable: boolean
  readonly clock: Clock
}

/** One call of a wrapped function, as the engine answers it. */
export class OperationCall implements Call<OperationValue> {
  readonly endpoint: Endpoint
  readonly counter: EndpointCounter
  readonly form: AnswerForm<OperationValue>
  readonly isRepeatable: boolean
  readonly key: string
  readonly terms: CallTerms
  readonly bypass = undefined
  readonly excerpt = undefined
  readonly directives = noDirectives
  readonly search = undefined
  readonly isPassed = false
  readonly sent = {}
  readonly #clock: Clock
  readonly #work: () => Promise<unknown>

  constructor(
    { endpoint, counter, form, isRepeatable, clock }: OperationParts,
    key: string,
    terms: CallTerms,
    work: () => Promise<unknown>,
  ) {
    this.endpoint = endpoint
    this.counter = counter
    this.form = form
    this.isRepeatable = isRepeatable
    this.key = key
    this.terms = terms
    this.#clock = clock
    this.#work = work
  }

  variantKey(base: string): string {
    return base
  }

  canServe(): boolean {
    return true
  }

  async callUpstream(
    _ending: AbortController,
    _toRevalidate: Entry | undefined,
    leave: () => Promise<void>,
  ): Promise<Fetched<OperationValue>> {
    let value: unknown
    try {
      await leave()
      value = await this.#work()
    } catch (error) {
      return { result: 'failed', error }
    }
    const storable = attempted(() => storableValue(value))
    const now = this.#clock.now()
    return {
      ...{ result: 'answered', answer: storable?.value ?? unchangeable(value), isComplete: true },
      finish: async () => attempted(() => finishedValue(this.endpoint, value, storable, now)) ?? { notKept: 'inexact' },
      release() {},
    }
  }
}

/** How the values of an operation are restored. */
export function operationForm(fallback: { readonly value: unknown } | undefined): AnswerForm<OperationValue> {
  const storable = fallback && attempted(() => storableValue(fallback.value))
  return {
    restore: valueOfEntry,
    slides: () => true,
    canJoin: () => true,
    copy: (shared) => shared,
    fallback: fallback && (() => storable?.value ?? unchangeable(fallback.value)),
  }
}

function finishedValue(endpoint: Endpoint, value: unknown, storable: ReturnType<typeof storableValue>, now: number): Finished {
  const { provider, name, maxBodyBytes } = endpoint
  if (failsBy(endpoint, value)) return { amiss: new Error(`the value of ${provider}.${name} says that it failed`) }
  if (!storable) return { notKept: 'inexact' }
  const { head, body } = storable
  if (body.byteLength > maxBodyBytes) return { notKept: 'too-large' }
  const facts: AnswerFacts = { status: undefined, header: () => null, json: () => storable.value.read() }
  return {
    kept: {
      units: unitsOf(endpoint.units, facts),
      judge: (key) => keepValue(endpoint, key, facts, now),
      form: () => ({ head, body, memo: storable.value }),
    },
  }
}

/** A function of the configuration that fails says nothing: the value counts as it is. */
function failsBy({ failure, mode }: Endpoint, value: unknown): boolean {
  if (mode === 'measure') return false
  return attempted(() => failure.test?.({ status: undefined, header: () => null, json: () => value })) ?? false
}

/** Undefined where the work fails: a value nested too deep, a getter that throws. */
function attempted<T>(work: () => T): T | undefined {
  try {
    return work()
  } catch {
    return undefined
  }
}

/** The value that an entry holds; throws, the first time, where it holds none. */
export function valueOfEntry(entry: Entry): OperationValue {
  if (entry.memo === undefined) {
    const value = storedValue(entry.head, entry.body)
    value.read()
    entry.memo = value
  }
  return entry.memo as OperationValue
}
