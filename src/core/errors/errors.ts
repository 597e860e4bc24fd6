/** Marks errors of this library, so that two copies of the package in one tree recognise each other's. */
const brand = Symbol.for('stashen.error')

/** One fault of a configuration. */
export interface ConfigFault {
  /** Where it stands, e.g. `providers.ebbline.endpoints.tides.freshFor`. */
  readonly path: string
  /** What is wrong, what was received and what would be right. */
  readonly message: string
  /** Where it stands in the file, from 1; only for files that are data. */
  readonly line?: number
  readonly column?: number
}

/** Every code an error of this library can carry: when it comes, and what to do then. `docs/errors.md` says the same. */
export const errorCodes = {
  CONFIG_INVALID: {
    when: 'The configuration has faults, or the options of an operation or of a call have. Nothing was opened or called.',
    next: 'Mend what `faults` lists, each with its path; `stashen check` prints the same of a file.',
  },
  STORE_UNUSABLE: {
    when: 'The store could not be opened: missing, locked, read-only, corrupt, or not a Stashen store.',
    next: 'Do what the message says, or open with `openWithoutStore: true` to go on without it.',
  },
  PACKAGE_MISSING: {
    when: 'An optional package is needed and not installed.',
    next: 'Run the command that the message names.',
  },
  UPSTREAM_TIMEOUT: {
    when: 'The upstream did not begin its answer, go on with it, or complete it within its `timeout`, and no older answer may be given.',
    next: 'Raise `timeout` if the upstream is only slow; allow older answers with `staleIfError`.',
  },
  BODY_BROKEN: {
    when: "The answer's body broke off, or had not the length it announced; nothing of it was stored.",
    next: 'Ask again, or let Stashen do so with `retries`; `cause` says what happened.',
  },
  CALL_OVERDUE: {
    when: 'The call was not answered within its `within`, and no older answer may be given.',
    next: 'Raise `within`, or allow older answers with `staleIfError`.',
  },
  LIMIT_REACHED: {
    when: 'The call would have passed a limit of the provider, declared or told by it, and could not wait for its turn.',
    next: 'Ask again after `retryAt`; let calls wait longer with `maxWait`, or allow older answers with `staleIfError`.',
  },
  HELD_OFF: {
    when: 'Calls to the endpoint or its provider failed a moment ago, so it is not asked before `retryAt`, and no older answer may be given.',
    next: 'Ask again after `retryAt`; shorten `holdOff`, 0 to have none, where the caller repeats calls itself.',
  },
  BUDGET_SPENT: {
    when: 'The call could have passed a budget of the provider, or a background call came when the budget is to be stretched, and no older answer may be given.',
    next: 'Ask again after `retryAt`, when the next period of the budget begins; raise the budget, or allow older answers with `staleIfError`.',
  },
  ARGUMENTS_UNKEYABLE: {
    when: 'The arguments of an operation hold something that cannot be told from others, so they give no key.',
    next: 'Give the operation a `keyedBy` that returns what tells its answers apart.',
  },
  OFFLINE: {
    when: 'The stash is offline and holds no answer to the call.',
    next: 'Make the call once in mode `reuse`.',
  },
  NOTHING_STORED: {
    when: 'The call asked for a stored answer only, and none is stored that may be used.',
    next: 'Ask without that wish.',
  },
  STASH_CLOSED: {
    when: 'The stash was called after it was closed, or was closed while the call was under way.',
    next: 'Open another one, or close it later.',
  },
  USAGE: {
    when: 'A method or command was given something it cannot take.',
    next: 'Do what the message says.',
  },
} as const satisfies Record<string, { readonly when: string; readonly next: string }>

export type ErrorCode = keyof typeof errorCodes

/** The base of every error thrown by this library. `code` is stable, `message` says what to do next. */
export class StashenError extends Error {
  override readonly name: string = 'StashenError'
  readonly [brand] = true

  constructor(
    readonly code: ErrorCode,
    message: string,
    options?: { cause?: unknown },
  ) {
    super(message, options)
  }
}

/** Tells an error of this library, of any copy of it, from all others. */
export function isStashenError(thing: unknown): thing is StashenError {
  return typeof thing === 'object' && thing !== null && brand in thing
}

/** All faults of a configuration at once. Code `CONFIG_INVALID`. */
export class ConfigError extends StashenError {
  override readonly name = 'ConfigError'

  /** `of`: what has the faults, and what was therefore not done. */
  constructor(
    readonly faults: readonly ConfigFault[],
    of = { what: 'the configuration', undone: 'opened' },
  ) {
    const lines = faults.map(
      ({ line, column, path, message }) => `  ${line === undefined ? '' : `${line}:${column} `}${path || '(top)'}: ${message}`,
    )
    super(
      'CONFIG_INVALID',
      `${of.what} has ${faults.length === 1 ? 'a fault' : `${faults.length} faults`}, nothing was ${of.undone}:\n${lines.join('\n')}`,
    )
  }
}

/** A store that could not be opened. Code `STORE_UNUSABLE`. */
export class StoreError extends StashenError {
  override readonly name = 'StoreError'

  constructor(message: string, options?: { cause?: unknown }) {
    super('STORE_UNUSABLE', message, options)
  }
}

/** An optional package that is not installed. Code `PACKAGE_MISSING`. */
export class MissingPackageError extends StashenError {
  override readonly name = 'MissingPackageError'

  constructor(packages: string, purpose: string, options?: { cause?: unknown }) {
    super('PACKAGE_MISSING', `${purpose} needs ${packages}, which is not installed: run "npm install ${packages}"`, options)
  }
}

/** No answer in time. Code `UPSTREAM_TIMEOUT`. */
export class UpstreamTimeoutError extends StashenError {
  override readonly name = 'UpstreamTimeoutError'

  constructor(
    readonly provider: string,
    readonly endpoint: string,
    /** What was waited for in vain: the first byte of an answer, the next one, or the whole of it. */
    readonly missing: 'firstByte' | 'nextByte' | 'total',
    readonly timeoutMs: number,
  ) {
    const gave = { firstByte: 'did not begin to answer', nextByte: 'did not go on with its answer', total: 'gave no complete answer' }
    super(
      'UPSTREAM_TIMEOUT',
      `${provider}.${endpoint} ${gave[missing]} within ${timeoutMs} ms: raise "timeout" of "${provider}" or of the endpoint if it is only slow`,
    )
  }
}

/** No answer within the time that the caller, or the rule, gave the call as a whole. Code `CALL_OVERDUE`. */
export class CallOverdueError extends StashenError {
  override readonly name = 'CallOverdueError'

  constructor(
    readonly provider: string,
    readonly endpoint: string,
    readonly withinMs: number,
  ) {
    super(
      'CALL_OVERDUE',
      `the call to ${provider}.${endpoint} was not answered within ${withinMs} ms and no older answer may be given: raise "within", or allow older answers with "staleIfError"`,
    )
  }
}

/** A call that would have passed a limit. Code `LIMIT_REACHED`. */
export class LimitReachedError extends StashenError {
  override readonly name = 'LimitReachedError'
  /** When there is room again, as far as is known. */
  readonly retryAt: Date

  constructor(
    readonly provider: string,
    readonly endpoint: string,
    /** The limit, e.g. `30 calls per minute`, or what the provider said. */
    readonly limit: string,
    retryAt: number,
    options?: { cause?: unknown },
  ) {
    super(
      'LIMIT_REACHED',
      `a call to ${provider}.${endpoint} now would pass a limit (${limit}): ask again after ${new Date(retryAt).toISOString()}, or let calls wait longer with "maxWait"`,
      options,
    )
    this.retryAt = new Date(retryAt)
  }
}

/** A call to what failed a moment ago. Code `HELD_OFF`. */
export class HeldOffError extends StashenError {
  override readonly name = 'HeldOffError'
  /** When the next call may try, as far as is known. */
  readonly retryAt: Date

  constructor(
    readonly provider: string,
    readonly endpoint: string,
    retryAt: number,
  ) {
    super(
      'HELD_OFF',
      `${provider}.${endpoint} is not asked before ${new Date(retryAt).toISOString()}, for calls to it failed: ask again then, or shorten "holdOff"`,
    )
    this.retryAt = new Date(retryAt)
  }
}

/** A call that could have passed a budget. Code `BUDGET_SPENT`. */
export class BudgetSpentError extends StashenError {
  override readonly name = 'BudgetSpentError'
  /** When the next period of the budget begins. */
  readonly retryAt: Date

  constructor(
    readonly provider: string,
    readonly endpoint: string,
    /** Which budget, e.g. `budget of EUR 50 per month`. */
    readonly budget: string,
    retryAt: number,
  ) {
    super(
      'BUDGET_SPENT',
      `a call to ${provider}.${endpoint} now could pass a limit of your own (${budget}): ask again after ${new Date(retryAt).toISOString()}, raise the budget, or allow older answers with "staleIfError"`,
    )
    this.retryAt = new Date(retryAt)
  }
}

/** Offline, and nothing stored. Code `OFFLINE`. */
export class OfflineError extends StashenError {
  override readonly name = 'OfflineError'

  constructor(provider: string, endpoint: string) {
    super('OFFLINE', `offline, and no answer of ${provider}.${endpoint} to this call is stored: make the call once in mode "reuse"`)
  }
}

/** A stored answer only was asked for, and there is none. Code `NOTHING_STORED`. */
export class NothingStoredError extends StashenError {
  override readonly name = 'NothingStoredError'

  constructor(provider: string, endpoint: string) {
    super(
      'NOTHING_STORED',
      `only a stored answer of ${provider}.${endpoint} was asked for, and none is stored that may be used: ask without that wish`,
    )
  }
}

/** A body that ended before its time. Code `BODY_BROKEN`. */
export class BrokenBodyError extends StashenError {
  override readonly name = 'BrokenBodyError'

  constructor(provider: string, endpoint: string, options?: { cause?: unknown }) {
    super('BODY_BROKEN', `the answer of ${provider}.${endpoint} broke off before its end; nothing of it was stored, ask again`, options)
  }
}
