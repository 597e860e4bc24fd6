import { decideOnFailure } from '../../core/decide/decide.js'
import { UpstreamTimeoutError } from '../../core/errors/call-errors.js'
import { type Ending, endingOf } from '../../core/money/billed-calls.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { type Fetched, type Finished, unitsIn, type WithAnswer } from '../call/fetched.js'
import { situationOf } from '../call/situation.js'
import { Cancellation } from '../cancellation.js'
import type { Permit } from '../gate/permit.js'
import { AnswerEnd } from './answer-end.js'
import { lateFailure, notReused, withheldFor } from './attempt-ends.js'
import { AttemptTimers } from './attempt-timers.js'
import type { Ended, Landed, Usage } from './landed.js'
import { placeOf } from './place.js'
import type { UpstreamJob, UpstreamParts } from './upstream-job.js'
import { UpstreamRecord } from './upstream-record.js'
import { aFewTurns, untilAborted } from './waiting.js'

interface Ran<T> {
  readonly landed: Landed<T>
  /** How long to wait before it is made again; undefined where it is not. */
  readonly pauseMs: number | undefined
  /** Gives up what is still to come of its answer. Returns whether anything was. */
  discard(): boolean
}

/** One call that leaves for its provider, or two where a 304 was no answer to what was asked. */
export class UpstreamAttempt<T> {
  readonly #parts: UpstreamParts
  readonly #job: UpstreamJob<T>
  readonly #attempt: number
  /** Ends this attempt. */
  readonly #own = new Cancellation()
  readonly #timers: AttemptTimers
  #record: UpstreamRecord | undefined
  #withheld: { readonly error: unknown } | undefined
  #pauseMs: number | undefined
  #measuring: Promise<void> | undefined

  constructor(parts: UpstreamParts, job: UpstreamJob<T>, attempt: number) {
    this.#parts = parts
    this.#job = job
    this.#attempt = attempt
    this.#timers = new AttemptTimers(parts.clock, job.call.endpoint, (reason) => this.#own.abort(reason))
  }

  async run(): Promise<Ran<T>> {
    const { call, previous, isReusable, ending } = this.#job
    const end = () => this.#own.abort(ending.reason)
    const forget = ending.onAbort(end)
    if (ending.aborted) end()
    const over = () => {
      this.#timers.cancel()
      forget()
    }
    const toRevalidate = call.directives.ask === 'reload' || !isReusable ? undefined : previous
    const fetched = await untilAborted(
      () => call.callUpstream(this.#own, toRevalidate, () => this.#leave()),
      this.#own,
      (error): Fetched<T> => ({ result: 'failed', error }),
    )
    if ('error' in fetched) {
      over()
      return { landed: this.#withoutAnswer(fetched), pauseMs: this.#pauseMs, discard: () => false }
    }
    return this.#withAnswer(fetched, over)
  }

  /** Called before each call that leaves. */
  #leave(): Maybe<void> {
    const { call, terms, ahead } = this.#job
    const { endpoint, path } = call
    const isRepetition = this.#attempt > 1 || this.#record !== undefined
    this.#record?.end({ how: 'answered' })
    this.#record = undefined
    if (endpoint.mode === 'measure' || !endpoint.isGated) return this.#left(undefined, isRepetition)
    try {
      const asked = { endpoint, path, urgency: terms.urgency, waitMs: this.#waitMs(), ending: this.#own, ...(!isRepetition && { ahead }) }
      const entered = this.#parts.gate.enter(asked)
      if (!(entered instanceof Promise)) return this.#left(entered, isRepetition)
      return entered.then(
        (permit) => this.#left(permit, isRepetition),
        (error) => this.#withhold(error),
      )
    } catch (error) {
      this.#withhold(error)
    }
  }

  #left(permit: Permit | undefined, isRepetition: boolean): void {
    if (permit && this.#own.aborted) {
      permit.end({ how: 'left' }) // nobody waits for what comes of it any more
      this.#withhold(this.#own.reason)
    }
    const { call, terms } = this.#job
    this.#record = new UpstreamRecord({ call, terms, permit, attempt: this.#attempt, isRepetition }, this.#parts)
    this.#timers.start()
  }

  #withhold(error: unknown): never {
    this.#withheld = { error }
    throw error
  }

  #waitMs(): number {
    const { atLimit, urgency, maxWaitMs } = this.#job.terms
    if (urgency.nobodyWaits || atLimit === 'refuse') return 0
    return atLimit === 'older-answer' && this.#standIn('limit-reached') === 'serve' ? 0 : maxWaitMs
  }

  /** What could be given in place of an answer. */
  #standIn(failure?: 'limit-reached'): 'serve' | 'fallback' | 'give-up' {
    const { call, previous } = this.#job
    return decideOnFailure({ ...situationOf(call, previous, this.#parts.clock.now()), failure }).do
  }

  /** Whether those who waited for it have gone, or the stash is closed: which is no failure of the upstream. */
  get #isAbandoned(): boolean {
    const { aborted, reason } = this.#own
    return aborted && !(reason instanceof UpstreamTimeoutError)
  }

  /** The call gave nothing that could be handed on, or never left. */
  #withoutAnswer({ error, ...fetched }: Extract<Fetched<T>, { readonly error: unknown }>): Landed<T> {
    const unreached = 'unreached' in fetched && fetched.unreached === true
    const over = Promise.resolve()
    const rest = { place: placeOf(this.#job.call), finished: over, settled: over, attempts: this.#attempt, onWhole: noop, onEnd: noop }
    if (!this.#record || this.#withheld) return { fetched: { result: 'withheld', error, failure: withheldFor(error) }, ...rest }
    if (this.#isAbandoned) {
      this.#record.end({ how: 'abandoned', error })
      return { fetched: { result: 'abandoned', error }, ...rest }
    }
    this.#pauseMs = this.#pauseAfter('failed', undefined)
    this.#record.end({ how: unreached ? 'unreached' : 'failed', error, isRepeated: this.#pauseMs !== undefined })
    const measured = unreached ? over : this.#measured(this.#job.call.key, 'noAnswer')
    return { fetched: { result: 'failed', error, unreached }, ...rest, finished: measured, settled: measured }
  }

  /** What measuring has to note of a call, for which its caller does not wait. Never rejects. */
  async #measured(key: string | undefined, ending: Ending, finished?: Finished): Promise<void> {
    const { call } = this.#job
    const kept = finished && 'kept' in finished ? finished.kept : undefined
    try {
      await this.#parts.entryWriter.measured(call, key, { askedAt: this.#record?.beganAt ?? 0, ending }, kept)
    } catch (error) {
      this.#parts.trouble(`what reuse would do is not measured of ${call.endpoint.provider}.${call.endpoint.name}`, error)
    }
  }

  #pauseAfter(result: 'answered' | 'refused' | 'failed', status: number | undefined, notBefore?: number): number | undefined {
    const { retries } = this.#parts
    if (this.#isAbandoned || !retries.mayHelp(result, status)) return undefined
    return retries.pauseBefore(this.#job.call, this.#attempt, { notBefore, deadline: this.#job.deadline })
  }

  async #withAnswer(fetched: WithAnswer<T>, over: () => void): Promise<Ran<T>> {
    const { call } = this.#job
    const { result, status, reported } = fetched
    this.#timers.headArrived()
    this.#pauseMs = this.#pauseAfter(result, status, reported?.notBefore)
    this.#record?.answering(result, status, reported, this.#pauseMs !== undefined)
    const place = this.#attemptWork(() => placeOf(call, fetched), placeOf(call))
    const end = new AnswerEnd()
    const finish = async (): Promise<void> => {
      let storing: Promise<void> | undefined
      try {
        const finished = await fetched.finish()
        over()
        end.whole(finished, this.#recordEnd(fetched, finished))
        storing = this.#store(fetched, finished, place).then((ended) => end.over(ended))
        await aFewTurns(() => end.isOver) // a store that does it at once has done it then; for another nobody waits
      } catch (error) {
        this.#notRecorded(error)
      } finally {
        fetched.release()
        end.released()
      }
      await storing?.catch((error) => this.#notRecorded(error))
      await this.#measuring
    }
    const finished = finish()
    if (!this.#waitsForBody(fetched)) await aFewTurns(() => end.isOver)
    else if ((await fetched.settled) !== 'outgrown') await end.release
    const came = end.finished
    const landed: Landed<T> = {
      fetched: came && result === 'answered' && ('broken' in came || 'amiss' in came) ? lateFailure(fetched, came) : fetched,
      ...{ place, finished, settled: fetched.settled ?? finished, attempts: this.#attempt, onWhole: end.onWhole, onEnd: end.onEnd },
    }
    const discard = () => {
      const isUnfinished = end.finished === undefined
      if (isUnfinished) this.#own.abort(new DOMException('the call is made again', 'AbortError'))
      return isUnfinished
    }
    return { landed, pauseMs: this.#pauseMs, discard }
  }

  #notRecorded(error: unknown): void {
    const { provider, name } = this.#job.call.endpoint
    this.#parts.trouble(`calls to ${provider}.${name} are not recorded in full`, error)
  }

  /**
   * Callers wait for a complete body where an older answer could take its place should it break off, or where the rule has to see all of it
   * to say whether the call failed and something can be done about that. A stream is handed on as it comes.
   */
  #waitsForBody({ result, isComplete, isStream }: WithAnswer<T>): boolean {
    if (isComplete) return true
    const { call } = this.#job
    if (result !== 'answered' || isStream || call.endpoint.mode === 'measure') return false
    const standIn = this.#standIn()
    if (standIn === 'serve' || call.endpoint.isGivenWhole) return true
    return call.endpoint.failure.test !== undefined && (standIn === 'fallback' || this.#parts.retries.mayRepeat(call, this.#attempt))
  }

  /** Records how an upstream call ended that gave an answer. */
  #recordEnd({ result }: WithAnswer<T>, finished: Finished): Usage {
    const known = unitsIn(finished)
    const error = 'broken' in finished ? finished.broken : 'amiss' in finished ? finished.amiss : undefined
    const failsLate = result === 'answered' && error !== undefined
    if (failsLate) this.#pauseMs = this.#pauseAfter('failed', undefined)
    const how = failsLate ? 'failed' : result === 'answered' && 'abandoned' in finished ? 'abandoned' : result
    const isOfCaller = 'amiss' in finished && finished.isOfCaller
    return { known, used: this.#record?.end({ how, error, units: known, isRepeated: this.#pauseMs !== undefined, isOfCaller }) }
  }

  /** Stores a complete answer, where that is allowed. Whatever goes wrong with that, the caller has the answer. */
  async #store({ result, status }: WithAnswer<T>, finished: Finished, place: Landed<T>['place']): Promise<Ended> {
    const { call, isReusable, previous, isSuperseded, claim } = this.#job
    const { entryWriter } = this.#parts
    try {
      if (!('abandoned' in finished))
        this.#measuring = this.#measured(place.key, 'kept' in finished ? endingOf(result, status) : 'noAnswer', finished)
      const hasStandIn = result !== 'answered' && call.endpoint.mode !== 'measure' && this.#standIn() !== 'give-up'
      if (!isReusable || this.#pauseMs !== undefined || hasStandIn) return notReused(finished)
      return await entryWriter.write(call, finished, place, { previous, isSuperseded, claim, ending: endingOf(result, status) })
    } catch (error) {
      this.#parts.trouble(`answers of ${call.endpoint.provider}.${call.endpoint.name} are not stored`, error)
      return { notStored: 'trouble' }
    }
  }

  #attemptWork<R>(work: () => R, instead: R): R {
    try {
      return work()
    } catch (error) {
      const { provider, name } = this.#job.call.endpoint
      this.#parts.trouble(`answers of ${provider}.${name} cannot be found again`, error)
      return instead
    }
  }
}

function noop(): void {}
