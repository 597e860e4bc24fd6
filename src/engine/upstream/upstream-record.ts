import { errorText } from '../../core/errors/error-text.js'
import { countEnding, countTime } from '../../core/ledger/count-calls.js'
import type { Tally } from '../../core/ledger/tally.js'
import { type Reported, reportsAnything, saysWhen } from '../../core/limits/reported-limits.js'
import { endingOf } from '../../core/money/billed-calls.js'
import type { Units } from '../../core/money/units.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Call, CallTerms } from '../call/call.js'
import type { Events } from '../events.js'
import type { Permit, Result as PermitResult } from '../gate/permit.js'
import type { UpstreamParts } from './upstream-job.js'

/** How an upstream call ended. */
export interface UpstreamEnd {
  /** `unreached`: the provider saw nothing of it, so that it counts nowhere. */
  readonly how: 'answered' | 'refused' | 'failed' | 'abandoned' | 'unreached'
  readonly error?: unknown
  readonly units?: Units | undefined
  /** Whether it is made again, so that nothing is held off for it. */
  readonly isRepeated?: boolean
  /** Whether it failed by what it asked, as far as is known: the upstream works. */
  readonly isOfCaller?: boolean
}

type Reached = Exclude<UpstreamEnd['how'], 'unreached'>

/** A call about to leave. `isRepetition`: its caller has had one before. */
interface Leaving {
  readonly call: Call<unknown>
  readonly terms: CallTerms
  readonly permit: Permit | undefined
  readonly attempt: number
  readonly isRepetition: boolean
}

/** One call that leaves: counted once, when it is over, and reported once to limits, ledger and listeners. */
export class UpstreamRecord {
  readonly #call: Call<unknown>
  readonly #terms: CallTerms
  readonly #permit: Permit | undefined
  readonly #attempt: number
  readonly #isRepetition: boolean
  readonly #clock: Clock
  readonly #events: Events
  /** When it left, milliseconds since 1970-01-01T00:00Z. */
  readonly beganAt: number
  readonly #beganTicks: number
  readonly #underWay: UpstreamParts['underWay']
  #status: number | undefined
  #isAnswered = false
  #reported: Reported | undefined
  #isOver = false
  #isCounted = false

  constructor(
    { call, terms, permit, attempt, isRepetition }: Leaving,
    { clock, events, underWay }: Pick<UpstreamParts, 'clock' | 'events' | 'underWay'>,
  ) {
    this.#call = call
    this.#terms = terms
    this.#permit = permit
    this.#attempt = attempt
    this.#isRepetition = isRepetition
    this.#clock = clock
    this.#events = events
    this.beganAt = clock.now()
    this.#beganTicks = clock.ticks()
    this.#underWay = underWay
    underWay.add(this)
  }

  /** The process or the page ends before it does. */
  leave(): void {
    this.end({ how: 'abandoned' })
  }

  /** The head of its answer has arrived. A failure is one as soon as its head says so, whoever reads the body. */
  answering(
    result: 'answered' | 'refused' | 'failed',
    status: number | undefined,
    reported: Reported | undefined,
    isRepeated: boolean,
  ): void {
    this.#isAnswered = true
    this.#status = status
    this.#reported = reported
    if (result !== 'answered') this.#count(result)
    const settled = result === 'refused' || (result === 'failed' && !isRepeated)
    this.#permit?.answering(
      reported && reportsAnything(reported) ? reported : undefined,
      settled ? this.#result({ how: result }) : undefined,
    )
  }

  /** Returns the units that it is taken to have used. */
  end(end: UpstreamEnd): Units | undefined {
    if (this.#isOver) return undefined
    this.#isOver = true
    this.#underWay.delete(this)
    const { how, error, isRepeated = false, isOfCaller = false } = end
    if (how === 'unreached') return this.#unreached(error, isRepeated)
    this.#count(how)
    const unknown = this.#unknownUnits(how, end.units)
    const units = unknown.length === 0 ? end.units : { ...only(this.#call.endpoint.unitsUpTo, unknown), ...end.units }
    this.#counted((tally) => {
      if (units && this.#status !== 304) tally.addUnits('made', units)
      if (unknown.length > 0) tally.unitsUnknown++
    })
    const billed = how === 'abandoned' ? (this.#isAnswered ? 'answered' : 'failed') : how
    if (this.#permit) {
      const result = this.#result({ how: how !== 'failed' ? how : isRepeated ? 'abandoned' : isOfCaller ? 'answered' : how, error })
      this.#permit.end({
        how: result.how,
        what: result.what,
        saidWhen: result.saidWhen,
        ending: endingOf(billed, this.#status),
        units: this.#status === 304 ? undefined : units,
        unknownUnits: unknown.length > 0 ? unknown : undefined,
      })
    }
    this.#tell(how, { error, units: end.units })
    return units
  }

  /** It takes no place, costs nothing and counts nowhere; its endpoint is held off as after any failure. */
  #unreached(error: unknown, isRepeated: boolean): undefined {
    const { what } = this.#result({ how: 'failed', error })
    this.#permit?.end({ how: isRepeated ? 'left' : 'failed', what, isUnreached: true })
    this.#tell('unreached', { error, units: undefined })
  }

  /** Units that it may have used and its answer does not tell. */
  #unknownUnits(how: Reached, known: Units = {}): string[] {
    const { units } = this.#call.endpoint
    const isGood = this.#isAnswered && how !== 'refused' && (this.#status === undefined || this.#status < 300)
    return units && isGood ? Object.keys(units).filter((name) => !Object.hasOwn(known, name)) : []
  }

  /** Counts it when it left or when it ended, as the plan bills it. */
  #counted(how: (tally: Tally) => void): void {
    const { counter, endpoint, countedFor } = this.#call
    counter.at(endpoint.countedAt === 'left' ? this.beganAt : this.#clock.now()).count(countedFor, how)
  }

  /** Counts how it ended, as soon as that is settled. */
  #count(how: Reached): void {
    if (this.#isCounted) return
    this.#isCounted = true
    const isMore = this.#terms.urgency.nobodyWaits === true || this.#isRepetition
    this.#counted((tally) => {
      countEnding(tally, { how, status: this.#status, isAnswered: this.#isAnswered, isMore })
      if (this.#terms.urgency.inBackground) tally.upBackground++
      if (this.#isRepetition) tally.upRepeated++
      if (how === 'answered') countTime(tally, this.#clock.ticks() - this.#beganTicks)
    })
  }

  #result({ how, error }: { readonly how: Reached; readonly error?: unknown }): PermitResult {
    const what = error !== undefined ? errorText(error) : `answered with status ${this.#status}`
    return { how: how === 'abandoned' ? 'left' : how, what, saidWhen: this.#reported !== undefined && saysWhen(this.#reported) }
  }

  #tell(how: UpstreamEnd['how'], { error, units }: Pick<UpstreamEnd, 'error' | 'units'>): void {
    if (!this.#events.heard('upstream')) return
    const { endpoint, sent, key } = this.#call
    this.#events.tell('upstream', {
      ...{ provider: endpoint.provider, endpoint: endpoint.name, how, ...sent },
      ...{ status: this.#status, beganAt: new Date(this.beganAt), ms: this.#clock.ticks() - this.#beganTicks, attempt: this.#attempt },
      ...{ inBackground: this.#terms.urgency.inBackground, mode: endpoint.mode, key, units, label: this.#terms.label, error },
    })
  }
}

function only(units: Units, names: readonly string[]): Units {
  return Object.fromEntries(names.filter((name) => Object.hasOwn(units, name)).map((name) => [name, units[name] as number]))
}
