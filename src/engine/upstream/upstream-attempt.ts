import { decideOnFailure, type WithheldFor } from '../../core/decide/decide.js'
import type { UpstreamCallFacts } from '../../core/decide/events.js'
import type { Keeping, NotKept } from '../../core/decide/keep.js'
import { BudgetSpentError, HeldOffError, LimitReachedError, UpstreamTimeoutError } from '../../core/errors/call-errors.js'
import { errorWords } from '../../core/errors/error-text.js'
import { countStatus, countTime } from '../../core/ledger/tally.js'
import { reportsAnything, saysWhen } from '../../core/limits/reported-limits.js'
import { endingOf } from '../../core/money/billed-calls.js'
import type { Units } from '../../core/money/units.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { SharedCall } from '../answer/shared-call.js'
import type { Ask, Fetched, Finished, WithAnswer } from '../call/call.js'
import { situationOf } from '../call/situation.js'
import type { Events } from '../events.js'
import type { Pass } from '../gate/call-queue.js'
import type { Gate } from '../gate/gate.js'
import type { EntryWriter, Place } from './entry-writer.js'
import { placeOf } from './entry-writer.js'
import type { RetryBudget } from './retry-budget.js'

/** What became of an upstream call's answer. */
export type Ended = { readonly stored: Keeping } | { readonly notStored: NotKept } | { readonly broken: unknown } | { readonly amiss: true }

/** An upstream call that can be answered. */
export interface Landed<T> {
  readonly fetched: Fetched<T>
  readonly place: Place
  readonly finished: Promise<unknown>
  /** Upstream calls made for it. */
  readonly attempts: number
  /** Calls back as soon as it is known what became of the answer, and before callers see its end. */
  onEnd(then: (ended: Ended, units?: Units) => void): void
}

export interface UpstreamCallsParts {
  readonly clock: Clock
  readonly gate: Gate
  readonly events: Events
  readonly entryWriter: EntryWriter
  readonly random: () => number
}

/** One upstream call to be made for all who ask. */
export interface Errand<T> {
  readonly ask: Ask<T>
  /** The entry that it is to take the place of. */
  readonly previous: Entry | undefined
  /** Whether its answer may be stored and shared. */
  readonly reusable: boolean
  readonly call: SharedCall<Landed<T>>
  readonly ending: AbortController
}

/** The pause before the first repetition, and the longest, milliseconds. */
const firstPauseMs = 200
const longestPauseMs = 10_000

/** Statuses of answers that may be asked for again, besides failures and refusals (RFC 9110 section 15.5.9, RFC 8470 section 5.2). */
const repeatableStatuses = [408, 425]

/** One call that leaves for its provider, or two where a 304 was no answer to what was asked. */
export class UpstreamAttempt<T> {
  readonly #parts: UpstreamCallsParts
  readonly #errand: Errand<T>
  readonly #attempt: number
  readonly #budget: RetryBudget
  /** Ends this attempt. */
  readonly #own = new AbortController()
  #pass: Pass | undefined
  #beganAt: number | undefined
  #beganTicks = 0
  #cancelTimers: () => void = noop
  #withheld: unknown
  #pauseMs: number | undefined

  constructor(parts: UpstreamCallsParts, errand: Errand<T>, attempt: number, budget: RetryBudget) {
    this.#parts = parts
    this.#errand = errand
    this.#attempt = attempt
    this.#budget = budget
  }

  async run(): Promise<{ landed: Landed<T>; pauseMs: number | undefined }> {
    const { ask, previous, reusable, ending } = this.#errand
    const end = () => this.#own.abort(ending.signal.reason)
    if (ending.signal.aborted) end()
    else ending.signal.addEventListener('abort', end, { once: true })
    const told = ask.directives.ask === 'whole' || !reusable ? undefined : previous
    const fetched = await untilAborted(
      ask.callUpstream(this.#own, told, () => this.#leave()),
      this.#own.signal,
      (error): Fetched<T> => ({ result: 'failed', error }),
    )
    const finished = () => ending.signal.removeEventListener('abort', end)
    if ('error' in fetched) {
      const landed = this.#withoutAnswer(fetched.error, fetched.earlier)
      finished()
      return { landed, pauseMs: this.#pauseMs }
    }
    return { landed: await this.#withAnswer(fetched, finished), pauseMs: this.#pauseMs }
  }

  /** Called before each call that leaves. */
  async #leave(): Promise<void> {
    const { ask } = this.#errand
    const { endpoint } = ask
    await this.#pass?.end({ how: 'answered', ending: 'unmodified' })
    this.#pass = undefined
    if (endpoint.mode !== 'measure') {
      try {
        const pass = await this.#parts.gate.enter({ endpoint, urgency: ask.urgency, waitMs: this.#waitMs(), signal: this.#own.signal })
        if (this.#own.signal.aborted) {
          void pass.end({ how: 'left' }) // nobody waits for what comes of it any more
          throw this.#own.signal.reason
        }
        this.#pass = pass
      } catch (error) {
        this.#withheld = error
        throw error
      }
    }
    this.#beganAt = this.#parts.clock.now()
    this.#beganTicks = this.#parts.clock.ticks()
    this.#startTimers()
  }

  #waitMs(): number {
    const { ask } = this.#errand
    if (ask.urgency.nobodyWaits || ask.atLimit === 'refuse') return 0
    return ask.atLimit === 'older-answer' && this.#standIn('limit-reached') === 'serve' ? 0 : ask.maxWaitMs
  }

  /** What could be given in place of an answer. */
  #standIn(failure?: 'limit-reached'): 'serve' | 'fallback' | 'give-up' {
    const { ask, previous } = this.#errand
    return decideOnFailure({ ...situationOf(ask, previous, this.#parts.clock.now()), failure }).do
  }

  #startTimers(): void {
    const { provider, name, timeouts } = this.#errand.ask.endpoint
    this.#cancelTimers()
    const { firstByteMs, totalMs } = timeouts
    const late = (missing: 'firstByte' | 'total', ms: number) =>
      this.#parts.clock.later(ms, () => this.#own.abort(new UpstreamTimeoutError(provider, name, missing, ms)))
    const cancelTotal = late('total', totalMs)
    const cancelFirstByte = firstByteMs < totalMs ? late('firstByte', firstByteMs) : noop
    this.#cancelTimers = () => {
      cancelTotal()
      cancelFirstByte()
    }
    this.#headIsHere = cancelFirstByte
  }

  #headIsHere: () => void = noop

  /** The call gave nothing that could be handed on, or never left. */
  #withoutAnswer(error: unknown, earlier = 0): Landed<T> {
    const { ask } = this.#errand
    this.#cancelTimers()
    const place = placeOf(ask, {})
    const rest = { place, finished: Promise.resolve(), attempts: this.#attempt, onEnd: noop }
    const tally = ask.line.at(this.#parts.clock.now())
    tally.upAnswered += earlier
    if (this.#beganAt === undefined || this.#withheld !== undefined) {
      const failure = withheldFor(error)
      return { fetched: { result: 'withheld', error, failure }, ...rest }
    }
    this.#ended('failed', error)
    return { fetched: { result: 'failed', error }, ...rest }
  }

  async #withAnswer(fetched: WithAnswer<T>, over: () => void): Promise<Landed<T>> {
    const { ask, previous, reusable, call } = this.#errand
    const { entryWriter, clock } = this.#parts
    this.#headIsHere()
    ask.line.at(clock.now()).upAnswered += fetched.earlier ?? 0
    if (fetched.told && reportsAnything(fetched.told)) void this.#pass?.told(fetched.told)
    const place = placeOf(ask, fetched)
    const standsIn = ask.endpoint.mode !== 'measure' && this.#standIn() !== 'give-up' // so wait for the end, in case it breaks off
    const callbacks: ((ended: Ended, units?: Units) => void)[] = []
    let units: Units | undefined
    let end: Ended | undefined
    const askedAt = this.#beganAt as number
    const finish = async (): Promise<void> => {
      const finished = await fetched.finish()
      this.#cancelTimers()
      over()
      units = 'kept' in finished ? finished.kept.units : undefined
      const bought = fetched.status === 304 ? undefined : units
      this.#answerEnded(fetched, finished, bought)
      if (bought) ask.line.at(clock.now()).addUnits('made', bought)
      if ('kept' in finished) entryWriter.measured(ask, place.key, askedAt, finished.kept)
      const kept = reusable && this.#pauseMs === undefined && !(standsIn && fetched.result !== 'answered')
      end = kept ? await entryWriter.keep(ask, finished, place, previous, call) : notReused(finished)
      for (const callback of callbacks) callback(end, units)
      fetched.release()
    }
    const finished = finish()
    const waits = fetched.whole || standsIn || this.#mayRepeat()
    await (waits ? finished : Promise.race([finished, aFewTurns()]))
    const failedLate = end !== undefined && fetched.result === 'answered' && ('broken' in end || 'amiss' in end)
    return {
      fetched: failedLate ? lateFailure(fetched, end as Ended, waits === true) : fetched,
      ...{ place, finished, attempts: this.#attempt },
      onEnd: (then) => (end ? then(end, units) : void callbacks.push(then)),
    }
  }

  /** Counts how an upstream call ended that gave an answer. */
  #answerEnded(fetched: WithAnswer<T>, finished: Finished, units: Units | undefined): void {
    const { status, result } = fetched
    if (result === 'answered' && !('broken' in finished) && !('amiss' in finished)) {
      const again = status !== undefined && repeatableStatuses.includes(status)
      this.#ended('answered', undefined, { ...fetched, units }, again)
      return
    }
    const error = 'broken' in finished ? finished.broken : 'amiss' in finished ? finished.amiss : undefined
    this.#ended(result === 'refused' ? 'refused' : 'failed', error, { ...fetched, units })
  }

  #ended(
    how: 'answered' | 'refused' | 'failed',
    error: unknown,
    fetched?: { readonly status?: number; readonly told?: Parameters<typeof saysWhen>[0] | undefined; readonly units?: Units | undefined },
    askAgain = how !== 'answered',
  ): void {
    const { ask } = this.#errand
    const { status, told } = fetched ?? {}
    const left = this.#own.signal.aborted && !(this.#own.signal.reason instanceof UpstreamTimeoutError)
    const now = this.#parts.clock.now()
    const tally = ask.line.at(now)
    tally[how === 'answered' ? 'upAnswered' : how === 'refused' ? 'upRefused' : 'upFailed']++
    countStatus(tally, how, status)
    if (ask.urgency.inBackground) tally.upBackground++
    if (this.#attempt > 1) tally.upRepeated++
    if (how === 'answered') countTime(tally, this.#parts.clock.ticks() - this.#beganTicks)
    if (askAgain && !left && (status === undefined || status < 400 || status >= 500 || [...repeatableStatuses, 429].includes(status))) {
      this.#pauseMs = this.#pauseBefore(told?.notBefore)
    }
    const what = error !== undefined ? errorWords(error) : `answered with status ${status}`
    const ending = left ? 'left' : this.#pauseMs !== undefined && how !== 'refused' ? 'left' : how
    const billed = { ending: endingOf(how, status), units: fetched?.units }
    void this.#pass?.end({ how: ending, what, saidWhen: told !== undefined && saysWhen(told), ...billed })
    this.#tell(left ? 'left' : how, { status, error, units: fetched?.units })
  }

  #mayRepeat(): boolean {
    const { ask } = this.#errand
    return ask.repeatable && ask.endpoint.mode !== 'measure' && this.#attempt <= ask.endpoint.retries.upTo
  }

  /** How long to wait before the next attempt; undefined where there is none. */
  #pauseBefore(notBefore: number | undefined): number | undefined {
    const { ask } = this.#errand
    if (!this.#mayRepeat()) return undefined
    const { clock, random } = this.#parts
    const grown = Math.min(longestPauseMs, firstPauseMs * 2 ** (this.#attempt - 1)) * (0.5 + random() / 2)
    const pause = Math.ceil(Math.max(grown, (notBefore ?? 0) - clock.now()))
    const timeLeft = ask.deadline === undefined ? ask.maxWaitMs + grown : ask.deadline - clock.ticks()
    return pause < timeLeft && this.#budget.spend(ask.endpoint.provider) ? pause : undefined
  }

  #tell(how: UpstreamCallFacts['how'], { status, error, units }: Pick<UpstreamCallFacts, 'status' | 'error' | 'units'>): void {
    const { events, clock } = this.#parts
    if (!events.heard('upstream')) return
    const { ask } = this.#errand
    events.tell('upstream', {
      ...{ provider: ask.endpoint.provider, endpoint: ask.endpoint.name, how, ...ask.sent },
      ...{ status, beganAt: this.#beganAt ?? clock.now(), ms: clock.ticks() - this.#beganTicks, attempt: this.#attempt },
      ...{ inBackground: ask.urgency.inBackground, mode: ask.endpoint.mode, key: ask.key, units, error },
    })
  }
}

/** The failure that a whole answer turned out to be: an error where it broke off; else the answer itself, which says so. */
function lateFailure<T>(fetched: WithAnswer<T>, end: Ended, isWhole: boolean): Fetched<T> {
  if ('broken' in end) return { result: 'failed', error: end.broken }
  return isWhole ? { ...fetched, result: 'failed' } : fetched
}

function withheldFor(error: unknown): Exclude<WithheldFor, 'overdue'> | undefined {
  if (error instanceof HeldOffError) return 'held-off'
  if (error instanceof BudgetSpentError) return 'budget-spent'
  return error instanceof LimitReachedError ? 'limit-reached' : undefined
}

function notReused(finished: Finished): Ended {
  if ('broken' in finished) return finished
  return 'amiss' in finished ? { amiss: true } : { notStored: 'not-reusable' }
}

function untilAborted<T>(work: Promise<T>, signal: AbortSignal, instead: (reason: unknown) => T): Promise<T> {
  return new Promise((resolve, reject) => {
    if (signal.aborted) return resolve(instead(signal.reason))
    signal.addEventListener('abort', () => resolve(instead(signal.reason)), { once: true })
    work.then(resolve, reject)
  })
}

/** Long enough for an answer that is there already to be read and stored, and no time at all by the clock. */
async function aFewTurns(): Promise<void> {
  for (let turn = 0; turn < 100; turn++) await undefined
}

function noop(): void {}
