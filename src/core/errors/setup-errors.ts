import { StashenError } from './stashen-error.js'

/** One fault of a configuration. */
export interface ConfigFault {
  /** Where it is, e.g. `providers.ebbline.endpoints.tides.freshFor`. */
  readonly path: string
  /** What is wrong, what was received and what would be right. */
  readonly message: string
  /** Where it is in the file, from 1; only for files that are data. */
  readonly line?: number
  readonly column?: number
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
      `${faults.length === 1 ? 'a fault' : `${faults.length} faults`} in ${of.what}, nothing was ${of.undone}:\n${lines.join('\n')}`,
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

/** A stash that is closed. Code `STASH_CLOSED`. */
export class StashClosedError extends StashenError {
  override readonly name = 'StashClosedError'
  override readonly provider: string | undefined
  override readonly endpoint: string | undefined

  /** `call`: the call that was under way, where there was one. */
  constructor(call?: { readonly provider: string; readonly name: string }) {
    const what = call ? `the stash was closed while a call to ${call.provider}.${call.name} was under way` : 'the stash is closed'
    super('STASH_CLOSED', `${what}: open another one, or close it later`)
    this.provider = call?.provider
    this.endpoint = call?.name
  }
}

/** Something wrong with how a method or command was called. Code `USAGE`. */
export class UsageError extends StashenError {
  override readonly name = 'UsageError'

  constructor(message: string, options?: { cause?: unknown }) {
    super('USAGE', message, options)
  }
}
