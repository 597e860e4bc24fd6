import { ageMs } from '../../core/decide/decide.js'
import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { Keeping, NotKept } from '../../core/decide/keep.js'
import type { Layer } from '../../core/decide/layer.js'
import type { Outcome } from '../../core/decide/outcome.js'
import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { Call } from '../call/call.js'
import type { Ended } from '../upstream/landed.js'

/** What is filled in as it becomes known. */
export type Live<T> = { -readonly [Name in keyof T]: T[Name] }

/** What an outcome says of the call itself. */
export function labelled({ terms: { label } }: Call<unknown>): Pick<Outcome, 'label'> {
  return label === undefined ? {} : { label }
}

/** The outcome of a call answered from store. */
export function storedOutcome(
  endpoint: Endpoint,
  times: StoredTimes,
  now: number,
  {
    how,
    reason,
    fwd,
    ms,
    layer,
  }: { how: 'hit' | 'stale' | 'collapsed'; layer?: Layer | undefined } & Pick<Outcome, 'reason' | 'fwd' | 'ms'>,
): Outcome {
  const { provider, name, price } = endpoint
  const freshUntil = new Date(times.freshUntil)
  const outcome: Live<Outcome> = { provider, endpoint: name, how, reason, fwd, ms, ageMs: ageMs(times, now), freshUntil, saved: price }
  if (layer) outcome.layer = layer
  return outcome
}

/** What an outcome says of storing, as far as the head of an answer promises it. */
export function expectedStorage(judged: Keeping | NotKept | undefined): Partial<Outcome> {
  if (judged === undefined) return {}
  return typeof judged === 'string' ? { stored: false, notStored: judged } : { stored: true, freshUntil: new Date(judged.freshUntil) }
}

/** What it says of storing once the end of the answer is known. */
export function storageAfter(ended: Ended): Partial<Outcome> {
  if ('stored' in ended) return { stored: true, notStored: undefined, freshUntil: new Date(ended.stored.freshUntil) }
  const why: NotKept = 'broken' in ended ? 'broke-off' : 'abandoned' in ended ? 'abandoned' : 'amiss' in ended ? 'failed' : ended.notStored
  return { stored: false, notStored: why, freshUntil: undefined }
}
