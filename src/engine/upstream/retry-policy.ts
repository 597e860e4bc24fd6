import type { Clock } from '../../core/ports/clock.js'
import type { Call } from '../call/call.js'

/** The pause before the first repetition, and the longest, milliseconds. */
const firstPauseMs = 200
const longestPauseMs = 10_000

/** Statuses of answers that may be asked for again, besides failures and refusals (RFC 9110 section 15.5.9, RFC 8470 section 5.2). */
const repeatableStatuses = [408, 425]

/** Repetitions allowed before any call was counted, and saved up at the most. */
const atFirst = 3
const mostSaved = 20

/** Which upstream calls are made again, and when; of all recent calls only so large a share as the rule says, so that they never are what keeps an upstream down. */
export class RetryPolicy {
  readonly #clock: Clock
  readonly #random: () => number
  /** Repetitions left, by provider. */
  readonly #left = new Map<string, number>()

  constructor(clock: Clock, random: () => number) {
    this.#clock = clock
    this.#random = random
  }

  /** A first call: earns its share of a repetition. */
  called(provider: string, share: number): void {
    this.#left.set(provider, Math.min(mostSaved, (this.#left.get(provider) ?? atFirst) + share))
  }

  mayRepeat({ endpoint, isRepeatable }: Call<unknown>, attempt: number): boolean {
    return isRepeatable && endpoint.mode !== 'measure' && attempt <= endpoint.retries.upTo
  }

  /** Whether a call that ended so could be answered better another time. */
  mayHelp(result: 'answered' | 'refused' | 'failed', status: number | undefined): boolean {
    if (status !== undefined && (repeatableStatuses.includes(status) || status === 429)) return true
    return result !== 'answered' && (status === undefined || status < 400 || status >= 500)
  }

  /**
   * How long to wait before the next attempt, milliseconds; undefined where there is none. What is given is spent. `notBefore`: when the
   * provider said to come back; `deadline`: when the call has to be answered, in ticks.
   */
  pauseBefore(
    call: Call<unknown>,
    attempt: number,
    { notBefore, deadline }: { notBefore?: number | undefined; deadline: number | undefined },
  ): number | undefined {
    if (!this.mayRepeat(call, attempt)) return undefined
    const grown = Math.min(longestPauseMs, firstPauseMs * 2 ** (attempt - 1)) * (0.5 + this.#random() / 2)
    const pause = Math.ceil(Math.max(grown, (notBefore ?? 0) - this.#clock.now()))
    const timeLeft = deadline === undefined ? call.terms.maxWaitMs + grown : deadline - this.#clock.ticks()
    return pause < timeLeft && this.#spend(call.endpoint.provider) ? pause : undefined
  }

  /** Whether one more may be repeated; if so, it is spent. */
  #spend(provider: string): boolean {
    const left = this.#left.get(provider) ?? atFirst
    if (left < 1 - 1e-9) return false
    this.#left.set(provider, left - 1)
    return true
  }
}
