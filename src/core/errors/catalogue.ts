/** Every code an error of this library can carry: when it occurs, and what to do then. `docs/errors.md` says the same. */
export const errorCodes = {
  CONFIG_INVALID: {
    when: 'The configuration is invalid, or the options of an operation or of a call are. Nothing was opened or called.',
    next: 'Fix what `faults` lists, each with its path; `stashen check` prints the same for a file.',
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
    when: 'The upstream did not begin, continue or complete its answer within its `timeout`, and no older answer may be given.',
    next: 'Raise `timeout` if the upstream is only slow; allow older answers with `staleIfError`.',
  },
  BODY_BROKEN: {
    when: "The answer's body broke off, or did not have the length it announced; nothing of it was stored.",
    next: 'Ask again, or let Stashen do so with `retries`; `cause` says what happened.',
  },
  CALL_OVERDUE: {
    when: 'The call was not answered within its `within`, and no older answer may be given.',
    next: 'Raise `within`, or allow older answers with `staleIfError`.',
  },
  LIMIT_REACHED: {
    when: 'The call would exceed a limit of the provider, declared or reported by it, and could not wait for its turn.',
    next: 'Ask again after `retryAt`; let calls wait longer with `maxWait`, or allow older answers with `staleIfError`.',
  },
  HELD_OFF: {
    when: 'Recent calls to the endpoint or its provider failed, so it is not asked before `retryAt`, and no older answer may be given.',
    next: 'Ask again after `retryAt`; shorten `holdOff`, 0 to have none, where the caller repeats calls itself.',
  },
  BUDGET_SPENT: {
    when: 'The call could exceed a budget of the provider, or a background call came when the budget is to be stretched, and no older answer may be given.',
    next: 'Ask again after `retryAt`, when the next period of the budget begins; raise the budget, or allow older answers with `staleIfError`.',
  },
  ARGUMENTS_UNKEYABLE: {
    when: 'The arguments of an operation contain something that cannot be told from other values, so they give no key.',
    next: 'Give the operation a `keyedBy` that returns what distinguishes its answers.',
  },
  OFFLINE: {
    when: 'The stash is offline and holds no answer to the call.',
    next: 'Make the call once in mode `reuse`.',
  },
  NOTHING_STORED: {
    when: 'The call asked for a stored answer only, and none is stored that may be used.',
    next: 'Ask without that directive.',
  },
  STASH_CLOSED: {
    when: 'The stash was called after it was closed, or was closed while the call was under way.',
    next: 'Open another one, or close it later.',
  },
  USAGE: {
    when: 'A method or command was given something it cannot take, or code that is loaded on demand cannot be reached.',
    next: 'Do what the message says.',
  },
} as const satisfies Record<string, { readonly when: string; readonly next: string }>

export type ErrorCode = keyof typeof errorCodes
