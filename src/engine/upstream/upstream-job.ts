import type { Claim } from '../../core/ports/claims.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Call, CallTerms } from '../call/call.js'
import type { Cancellation } from '../cancellation.js'
import type { Events } from '../events.js'
import type { QueuedCall } from '../gate/call-queue.js'
import type { Gate } from '../gate/gate.js'
import type { EntryWriter } from './entry-writer.js'
import type { RetryPolicy } from './retry-policy.js'

export interface UpstreamParts {
  readonly clock: Clock
  readonly gate: Gate
  readonly events: Events
  readonly entryWriter: EntryWriter
  readonly retries: RetryPolicy
  /** Called with what went wrong with an answer that had arrived: once an episode. */
  readonly trouble: (what: string, error: unknown) => void
  /** The calls that have left and not ended. */
  readonly underWay: Set<{ leave(): void }>
}

/** One upstream call to be made for all who ask. */
export interface UpstreamJob<T> {
  readonly call: Call<T>
  readonly terms: CallTerms
  /** When it has to be answered, in ticks of the clock; undefined where it may take its time. */
  readonly deadline: number | undefined
  /** The entry that it is to take the place of. */
  readonly previous: Entry | undefined
  /** Whether its answer may be stored and shared. */
  readonly isReusable: boolean
  /** Whether something newer is known by now, so that its answer must not be stored any more. */
  readonly isSuperseded: () => boolean
  readonly ending: Cancellation
  /** The claim by which its answer is stored, where the store has claims. */
  readonly claim?: Claim | undefined
  /** What is known of its provider, where that was looked up for its first call. */
  readonly ahead?: QueuedCall['ahead']
}
