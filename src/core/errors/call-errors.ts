import type { ErrorCode } from './catalogue.js'
import { StashenError } from './stashen-error.js'

/** An error of one call. It names the provider and the endpoint, or operation, that the call was for. */
export class CallError extends StashenError {
  override readonly provider: string
  override readonly endpoint: string

  constructor(code: ErrorCode, provider: string, endpoint: string, message: string, options?: { cause?: unknown }) {
    super(code, message, options)
    this.provider = provider
    this.endpoint = endpoint
  }
}

/** A call that was refused before it left, with when to try again. */
export class RefusedError extends CallError {
  /** When the next call may try, as far as is known; null where waiting does not help. */
  readonly retryAt: Date | null

  /** `retryAt`: milliseconds since 1970-01-01T00:00Z, infinite where waiting does not help. */
  constructor(code: ErrorCode, provider: string, endpoint: string, message: string, retryAt: number, options?: { cause?: unknown }) {
    super(code, provider, endpoint, message, options)
    this.retryAt = Number.isFinite(retryAt) ? new Date(retryAt) : null
  }
}

/** No answer in time. Code `UPSTREAM_TIMEOUT`. */
export class UpstreamTimeoutError extends CallError {
  override readonly name = 'UpstreamTimeoutError'

  constructor(
    provider: string,
    endpoint: string,
    /** What did not come in time: the first byte of an answer, the next one, or all of it. */
    readonly missing: 'firstByte' | 'nextByte' | 'total',
    readonly timeoutMs: number,
  ) {
    const failed = { firstByte: 'did not begin to answer', nextByte: 'did not continue its answer', total: 'gave no complete answer' }
    const option = { firstByte: 'firstByte', nextByte: 'idle', total: 'total' }[missing]
    super(
      'UPSTREAM_TIMEOUT',
      provider,
      endpoint,
      `${provider}.${endpoint} ${failed[missing]} within ${timeoutMs} ms: raise "timeout.${option}" of the endpoint or provider if it is only slow`,
    )
  }
}

/** No answer within the time that the caller, or the rule, gave the call as a whole. Code `CALL_OVERDUE`. */
export class CallOverdueError extends CallError {
  override readonly name = 'CallOverdueError'

  constructor(
    provider: string,
    endpoint: string,
    readonly withinMs: number,
  ) {
    super(
      'CALL_OVERDUE',
      provider,
      endpoint,
      `the call to ${provider}.${endpoint} was not answered within ${withinMs} ms and no older answer may be given: raise "within", or allow older answers with "staleIfError"`,
    )
  }
}

/** A call that would exceed a limit. Code `LIMIT_REACHED`. */
export class LimitReachedError extends RefusedError {
  override readonly name = 'LimitReachedError'

  constructor(
    provider: string,
    endpoint: string,
    /** The limit, e.g. `30 calls per minute`, or what the provider reported. */
    readonly limit: string,
    retryAt: number,
    options?: { cause?: unknown },
  ) {
    const next = Number.isFinite(retryAt)
      ? `ask again after ${new Date(retryAt).toISOString()}, or let calls wait longer with "maxWait"`
      : 'lower "reserved" of that limit, or make the call outside the background'
    super(
      'LIMIT_REACHED',
      provider,
      endpoint,
      `a call to ${provider}.${endpoint} now would exceed a limit (${limit}): ${next}`,
      retryAt,
      options,
    )
  }
}

/** A call to an upstream whose recent calls failed. Code `HELD_OFF`. */
export class HeldOffError extends RefusedError {
  override readonly name = 'HeldOffError'

  constructor(provider: string, endpoint: string, retryAt: number) {
    super(
      'HELD_OFF',
      provider,
      endpoint,
      `${provider}.${endpoint} is paused until ${new Date(retryAt).toISOString()} because recent calls failed: ask again then, or shorten "holdOff"`,
      retryAt,
    )
  }
}

/** A call that could exceed a budget. Code `BUDGET_SPENT`. */
export class BudgetSpentError extends RefusedError {
  override readonly name = 'BudgetSpentError'

  constructor(
    provider: string,
    endpoint: string,
    /** Which budget, e.g. `budget of EUR 50 per month`. */
    readonly budget: string,
    retryAt: number,
  ) {
    super(
      'BUDGET_SPENT',
      provider,
      endpoint,
      `a call to ${provider}.${endpoint} now could exceed a limit of your own (${budget}): ask again after ${new Date(retryAt).toISOString()}, raise the budget, or allow older answers with "staleIfError"`,
      retryAt,
    )
  }
}

/** Offline, and nothing stored. Code `OFFLINE`. */
export class OfflineError extends CallError {
  override readonly name = 'OfflineError'

  constructor(provider: string, endpoint: string) {
    super(
      'OFFLINE',
      provider,
      endpoint,
      `offline, and no answer of ${provider}.${endpoint} to this call is stored: make the call once in mode "reuse"`,
    )
  }
}

/** Only a stored answer was asked for, and there is none. Code `NOTHING_STORED`. */
export class NothingStoredError extends CallError {
  override readonly name = 'NothingStoredError'

  constructor(provider: string, endpoint: string) {
    super(
      'NOTHING_STORED',
      provider,
      endpoint,
      `only a stored answer of ${provider}.${endpoint} was asked for, and none is stored that may be used: ask without that directive`,
    )
  }
}

/** A body that ended before its time. Code `BODY_BROKEN`. */
export class BrokenBodyError extends CallError {
  override readonly name = 'BrokenBodyError'

  constructor(provider: string, endpoint: string, options?: { cause?: unknown }) {
    super(
      'BODY_BROKEN',
      provider,
      endpoint,
      `the answer of ${provider}.${endpoint} broke off before its end; nothing of it was stored, ask again`,
      options,
    )
  }
}

/** Arguments of an operation that give no key. Code `ARGUMENTS_UNKEYABLE`. */
export class ArgumentsUnkeyableError extends CallError {
  override readonly name = 'ArgumentsUnkeyableError'

  constructor(provider: string, endpoint: string, message: string) {
    super('ARGUMENTS_UNKEYABLE', provider, endpoint, message)
  }
}
