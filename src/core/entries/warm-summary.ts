/** How far warming has come. */
export interface WarmProgress {
  /** How many are done, and of how many, where that is known. */
  readonly done: number
  readonly of: number | null
  /** About how long the rest takes, milliseconds; null where that is not known. */
  readonly leftMs: number | null
}

/** What warming came to. */
export interface WarmSummary {
  /** How many were asked for. */
  readonly asked: number
  /** Of these, answers that were brought and stored, and that were fresh already or brought by another process meanwhile: for these nothing was called. */
  readonly stored: number
  readonly fresh: number
  /** Answers that came and were not stored, by why, as outcomes say it (`notStored`). */
  readonly notStored: Readonly<Record<string, number>>
  /** Calls that failed or could not be made, by why: the code of the error, or its text. */
  readonly failed: Readonly<Record<string, number>>
  /** Whether it was stopped before its end. */
  readonly isStopped: boolean
  readonly ms: number
}
