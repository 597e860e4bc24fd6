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

/** Every code an error of this library can carry, with what it means. */
export const errorCodes = {
  CONFIG_INVALID: 'The configuration has faults; `faults` lists every one with its path.',
  STORE_UNUSABLE: 'The store could not be opened: missing, locked, read-only, or not a Stashen store.',
  PACKAGE_MISSING: 'An optional package is needed and not installed; the message names the command that installs it.',
  UPSTREAM_TIMEOUT: "The upstream gave no complete answer within the provider's `timeout`.",
  BODY_BROKEN: "The answer's body broke off before its end; nothing of it was stored.",
  ARGUMENTS_UNKEYABLE: 'The arguments of an operation hold something that cannot be told from others, so they give no key.',
  OFFLINE: 'The stash is offline and holds no answer to the call.',
  NOTHING_STORED: 'The call asked for a stored answer only, and none is stored that may be used.',
  STASH_CLOSED: 'The stash was called after it was closed.',
  USAGE: 'A method or command was given something it cannot take.',
} as const satisfies Record<string, string>

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

  constructor(readonly faults: readonly ConfigFault[]) {
    const lines = faults.map(
      ({ line, column, path, message }) => `  ${line === undefined ? '' : `${line}:${column} `}${path || '(top)'}: ${message}`,
    )
    super(
      'CONFIG_INVALID',
      `the configuration has ${faults.length === 1 ? 'a fault' : `${faults.length} faults`}, nothing was opened:\n${lines.join('\n')}`,
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

/** No complete answer in time. Code `UPSTREAM_TIMEOUT`. */
export class UpstreamTimeoutError extends StashenError {
  override readonly name = 'UpstreamTimeoutError'

  constructor(
    readonly provider: string,
    readonly endpoint: string,
    readonly timeoutMs: number,
  ) {
    super(
      'UPSTREAM_TIMEOUT',
      `${provider}.${endpoint} gave no complete answer within ${timeoutMs} ms: raise "timeout" of provider "${provider}" if it is only slow`,
    )
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
