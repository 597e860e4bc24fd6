/** What a journal says of one key. */
export interface KeyReport {
  readonly provider: string
  readonly endpoint: string
  /** No credentials stand in it. */
  readonly key: string
  readonly asked: number
  readonly upstream: number
  readonly fromStore: number
  readonly errored: number
  /** Calls that got a good answer without an upstream call of their own. */
  readonly saved: number
}

/** The keys that saved most calls, by the journal. */
export interface KeysReport {
  /** Lines in the time asked for, the first of them, lines that could not be read, and ones that could not be written. */
  readonly journal: { readonly lines: number; readonly since: Date | null; readonly skipped: number; readonly lost: number }
  /** How many keys there are. */
  readonly keys: number
  readonly list: readonly KeyReport[]
}
