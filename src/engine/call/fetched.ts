import type { WithheldFor } from '../../core/decide/decide.js'
import type { Keeping, NotKept } from '../../core/decide/keep.js'
import type { SearchVariance } from '../../core/http/no-vary-search.js'
import type { Reported } from '../../core/limits/reported-limits.js'
import type { Units } from '../../core/money/units.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Arriving } from './arriving.js'

/** What every upstream call that gave an answer came to. `T` is the answer in the form its callers know. */
interface Arrived<T> {
  readonly answer: T
  readonly status?: number
  /** The request fields by which it varies. */
  readonly vary?: readonly string[] | '*'
  /** The query parameters that do not matter to it. */
  readonly search?: SearchVariance | undefined
  /** What it reports of the provider's limits. */
  readonly reported?: Reported | undefined
  /** Whether and how it is kept under a key, as far as that is known; undefined while it takes the complete answer to say. */
  readonly judged?: ((key: string) => Keeping | NotKept) | undefined
  /** Whether it is complete already. */
  readonly isComplete?: boolean
  /** Whether callers want it piece by piece, as it comes. */
  readonly isStream?: boolean
  /** Undefined where it is complete, or cannot be shown. */
  readonly arriving?: Arriving | undefined
  /** Resolves once it has ended or is too large to be kept; undefined where it is complete. */
  readonly settled?: Promise<'ended' | 'outgrown'> | undefined
  /** Reads the rest of it. Call once; never rejects. */
  finish(): Promise<Finished>
  /** Lets callers see its end: called once it is stored. */
  release(): void
}

/**
 * `amiss`: it is complete, and says that it failed, or is not JSON though it says so; `isOfCaller`: that may be about what was asked, so that nothing is held off.
 * `abandoned`: nobody waited for its end.
 */
export type Finished =
  | { readonly kept: Kept }
  | { readonly notKept: NotKept; readonly units?: Units | undefined }
  | { readonly broken: unknown }
  | { readonly amiss: Error; readonly isOfCaller?: boolean; readonly units?: Units | undefined }
  | { readonly abandoned: unknown }

/** The units that an answer says it cost. */
export function unitsIn(finished: Finished): Units | undefined {
  if ('kept' in finished) return finished.kept.units
  return 'units' in finished ? finished.units : undefined
}

/** Where the upstream refused or failed, callers without an older answer get the one that says so. */
export type WithAnswer<T> = { readonly result: 'answered' | 'refused' | 'failed' } & Arrived<T>

export type Fetched<T> =
  | WithAnswer<T>
  /** `unreached`: the provider saw nothing of it. */
  | { readonly result: 'failed'; readonly error: unknown; readonly unreached?: boolean }
  /** Its callers had gone before it was answered. */
  | { readonly result: 'abandoned'; readonly error: unknown }
  /** The call never left: a limit, a budget or a hold-off blocked it, or its callers had gone. */
  | { readonly result: 'withheld'; readonly error: unknown; readonly failure: Exclude<WithheldFor, 'overdue'> | undefined }

/** A complete answer, ready to be stored. */
export interface Kept {
  /** Units that it cost, by name. */
  readonly units?: Units | undefined
  /** Whether and how it is kept under a key. Throws what a function of the configuration throws. */
  judge(key: string): Keeping | NotKept
  /** As `judge`. */
  form(keeping: Keeping): Pick<Entry, 'head' | 'body' | 'labels' | 'memo'>
}
