import type { NotKept } from '../../core/decide/keep.js'
import { endingOf } from '../../core/money/billed-calls.js'
import type { EntryStore } from '../../core/ports/entry-store.js'
import type { Call } from '../call/call.js'
import { Cancellation } from '../cancellation.js'
import type { EntryWriter } from '../upstream/entry-writer.js'
import { placeOf } from '../upstream/place.js'
import type { CallsInFlight } from './calls-in-flight.js'
import type { ClaimedCalls } from './claimed-calls.js'
import { storageAfter } from './outcomes.js'

/** What became of an answer that was put. */
export interface PutAnswer {
  readonly stored: boolean
  /** Why it was not. */
  readonly notStored?: NotKept | undefined
  /** Until when it is fresh. */
  readonly freshUntil?: Date | undefined
}

export interface PutParts {
  readonly entryWriter: EntryWriter
  readonly inFlight: CallsInFlight
  readonly claimed: ClaimedCalls
  readonly entries: Pick<EntryStore, 'get'>
}

/** Stores an answer as if the call had brought it now, or at a time, where nothing newer is stored; nothing is called or counted, and what is on its way to the same key comes too late. */
export async function putAnswer<T>({ entryWriter, inFlight, claimed, entries }: PutParts, call: Call<T>, at?: number): Promise<PutAnswer> {
  const { endpoint, key } = call
  if (endpoint.mode === 'measure' || endpoint.freshForMs === undefined || key === undefined || call.bypass || call.excerpt)
    return { stored: false, notStored: 'not-reusable' }
  const ending = new Cancellation()
  const fetched = await call.callUpstream(ending, undefined, () => {})
  if (!('answer' in fetched)) throw fetched.error
  const place = placeOf(call, fetched)
  const finishing = fetched.finish()
  if ((await fetched.settled) === 'outgrown') {
    ending.abort(new DOMException('it is too large to be stored', 'AbortError')) // else its rest waits for a reader
    return { stored: false, notStored: 'too-large' }
  }
  const finished = await finishing
  fetched.release()
  if (at !== undefined && ((await entries.get(place.key))?.storedAt ?? Number.NEGATIVE_INFINITY) > at)
    return { stored: false, notStored: 'out-of-date' }
  inFlight.supersede(place.base)
  const claim = await claimed.takeOver(call, place.base)
  const writing = { previous: undefined, isSuperseded: () => false, claim, ending: endingOf(fetched.result, fetched.status) }
  const ended = await entryWriter.store(call, finished, place, writing)
  claimed.drop(claim)
  const { stored = false, notStored, freshUntil } = storageAfter(ended)
  return stored ? { stored, freshUntil } : { stored, notStored }
}
