import type { Bypass } from '../../core/decide/decide.js'
import { keepValue } from '../../core/decide/keep.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { noDirectives, type RequestDirectives } from '../../core/http/request-directives.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { AnswerFacts } from '../../core/rules/freshness.js'
import { type LabelSource, labelsBefore, labelsOf } from '../../core/rules/labels.js'
import { ownCopy } from '../../core/rules/own-copy.js'
import { unitsOf } from '../../core/rules/units.js'
import type { AnswerForm } from '../call/answer-form.js'
import type { Call, CallTerms } from '../call/call.js'
import type { Fetched, Finished } from '../call/fetched.js'
import type { Cancellation } from '../cancellation.js'
import type { EndpointCounter } from '../ledger/endpoint-counter.js'
import { type FunctionCall, runFunction } from '../nested-calls.js'
import {
  type OperationValue,
  returnedValue,
  type Storable,
  storableValue,
  storedValue,
  unchangeable,
  type ValueForm,
} from './operation-value.js'

/** What the calls of an operation have in common. */
export interface OperationParts {
  readonly endpoint: Endpoint
  readonly counter: EndpointCounter
  readonly form: AnswerForm<OperationValue>
  /** How values are turned into what can be stored, where they are none of that themselves. */
  readonly valueForm: ValueForm | undefined
  readonly isRepeatable: boolean
  readonly labels: readonly LabelSource[] | undefined
  readonly clock: Clock
  /** What a call has changed that has ended; undefined where it changes nothing. */
  readonly changed: ((value: unknown, args: readonly unknown[]) => Promise<void>) | undefined
  /** Called where arguments were changed while their call waited. */
  readonly argumentsChanged: () => void
  /** Called with why a value cannot be stored. */
  readonly inexact: (error: unknown) => void
}

/** What of a call its arguments and its caller say. */
export interface Asked {
  readonly key: string
  readonly args: readonly unknown[]
  readonly terms: CallTerms
  readonly isExcepted: boolean
  /** The calls it is made within. */
  readonly within: readonly FunctionCall[]
  /** The key of arguments, as they are now. */
  readonly keyOf: (args: readonly unknown[]) => string
}

/** One call of a wrapped function, as the engine answers it. */
export class OperationCall implements Call<OperationValue> {
  readonly endpoint: Endpoint
  readonly counter: EndpointCounter
  readonly form: AnswerForm<OperationValue>
  readonly isRepeatable: boolean
  readonly key: string
  readonly terms: CallTerms
  readonly countedFor: string | undefined
  readonly bypass: Bypass | undefined
  readonly excerpt = undefined
  readonly directives: RequestDirectives
  readonly search = undefined
  readonly isPassed = false
  readonly sent = {}
  readonly #parts: OperationParts
  readonly #args: readonly unknown[]
  readonly #within: readonly FunctionCall[]
  readonly #keyOf: (args: readonly unknown[]) => string
  readonly #work: (args: readonly unknown[]) => Promise<unknown>
  /** Whether the arguments hold what cannot be copied. */
  #hasForeign = false

  /** `work`: calls the function, with arguments of its own. */
  constructor(
    parts: OperationParts,
    { key, args, terms, isExcepted, within, keyOf }: Asked,
    work: (args: readonly unknown[]) => Promise<unknown>,
  ) {
    this.endpoint = parts.endpoint
    this.counter = parts.counter
    this.form = parts.form
    this.isRepeatable = parts.isRepeatable
    this.key = key
    this.terms = terms
    this.countedFor = parts.endpoint.countBy === 'label' ? terms.label : undefined
    const isNested = within.some((call) => call.operation === parts && call.key === key)
    this.bypass = isExcepted ? 'request-excepted' : terms.bypass ? 'no-store-asked' : isNested ? 'called-by-itself' : undefined
    this.directives = terms.reload ? reloading : noDirectives
    this.#parts = parts
    this.#args = ownCopy(args, () => {
      this.#hasForeign = true
    })
    this.#within = within
    this.#keyOf = keyOf
    this.#work = work
  }

  get labels(): readonly string[] | null | undefined {
    return labelsBefore(this.#parts.labels, () => ({ args: this.#args }))
  }

  variantKey(base: string): string {
    return base
  }

  canServe(): boolean {
    return true
  }

  async callUpstream(_ending: Cancellation, _toRevalidate: Entry | undefined, leave: () => Maybe<void>): Promise<Fetched<OperationValue>> {
    let value: unknown
    let isOutdated = false
    try {
      const leaving = leave()
      if (leaving instanceof Promise) await leaving
      isOutdated = this.#hasForeign && this.#hasOtherKey()
      const args = ownCopy(this.#args)
      value = await runFunction({ operation: this.#parts, key: this.key, within: this.#within }, () => this.#work(args))
      await this.#parts.changed?.(value, this.#args)
    } catch (error) {
      return { result: 'failed', error }
    }
    const storable = isOutdated ? undefined : this.#storable(value)
    const now = this.#parts.clock.now()
    return {
      ...{ result: 'answered', answer: returnedValue(value, storable), isComplete: true },
      finish: async () => attempted(() => this.#finished(value, storable, now)) ?? { notKept: 'inexact' },
      release() {},
    }
  }

  /** Whether what could not be copied of the arguments was changed meanwhile: then the result belongs to another key. */
  #hasOtherKey(): boolean {
    const isOther = attempted(() => this.#keyOf(this.#args)) !== this.key
    if (isOther) this.#parts.argumentsChanged()
    return isOther
  }

  #finished(value: unknown, storable: Storable | undefined, now: number): Finished {
    const { provider, name, maxBodyBytes, units: unitSources } = this.endpoint
    const facts = factsOf(() => (storable ? storable.value.read() : value))
    const units = unitsOf(unitSources, facts)
    if (failsBy(this.endpoint, value)) return { amiss: new Error(`the value of ${provider}.${name} says that it failed`), units }
    if (!storable) return { notKept: 'inexact', units }
    const { head, body } = storable
    if (body.byteLength > maxBodyBytes) return { notKept: 'too-large', units }
    const { labels } = this.#parts
    return {
      kept: {
        units,
        judge: (key) => keepValue(this.endpoint, key, facts, now),
        form: () => ({
          ...{ head, body, memo: storable.value },
          labels: labels && labelsOf(labels, { args: this.#args, value: facts.json(), answer: facts }),
        }),
      },
    }
  }

  /** Undefined where nothing gives the value back as it was. */
  #storable(value: unknown): Storable | undefined {
    try {
      return storableValue(value, this.#parts.valueForm)
    } catch (error) {
      if (this.endpoint.freshForMs !== undefined) this.#parts.inexact(error)
      return undefined
    }
  }
}

/** Asks for a new answer, whatever is stored. */
const reloading: RequestDirectives = { ...noDirectives, ask: 'reload' }

/** How the values of an operation are restored, and how its default value is given. */
export function operationForm(fallback: { readonly value: unknown } | undefined, valueForm?: ValueForm): AnswerForm<OperationValue> {
  const storable = fallback && attempted(() => storableValue(fallback.value, valueForm))
  return {
    restore: (entry) => valueOfEntry(entry, valueForm),
    statusOf: () => undefined,
    slides: () => true,
    canJoin: ({ others }) => others !== undefined,
    copy: (shared) => shared.others ?? shared,
    fallback: fallback && (() => storable?.value ?? unchangeable(fallback.value)),
  }
}

/** A value, as functions of the configuration see it. */
export function factsOf(read: () => unknown): AnswerFacts {
  const text = () => {
    const value = read()
    return typeof value === 'string' ? value : ''
  }
  return { status: undefined, header: () => null, json: read, text, events: () => [] }
}

/** A function of the configuration that fails says nothing: the value counts as it is. */
function failsBy({ failure, mode }: Endpoint, value: unknown): boolean {
  if (mode === 'measure') return false
  return attempted(() => failure.test?.(factsOf(() => value))) ?? false
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
export function valueOfEntry(entry: Entry, form?: ValueForm): OperationValue {
  if (entry.memo === undefined) {
    const value = storedValue(entry.head, entry.body, form)
    value.read()
    entry.memo = value
  }
  return entry.memo as OperationValue
}
