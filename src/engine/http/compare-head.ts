import { invalidatedTimes, timesOf } from '../../core/decide/entry-times.js'
import { comparedWithHead } from '../../core/http/validators.js'
import type { EntryStore } from '../../core/ports/entry-store.js'
import type { LookUp } from '../answer/look-up.js'
import type { Call } from '../call/call.js'
import type { EntryWriter } from '../upstream/entry-writer.js'
import { answerOfEntry } from './http-answer.js'
import { type ArrivedAnswer, renewed, type UpstreamRequest } from './http-upstream.js'

export interface ComparingParts {
  readonly entries: EntryStore
  readonly entryWriter: EntryWriter
  readonly lookUp: LookUp
}

/** Brings a stored answer up to date by one to HEAD, or finds it out of date (RFC 9111 section 4.3.5). */
export async function compareHead(
  { entries, entryWriter, lookUp }: ComparingParts,
  call: Call<unknown>,
  request: UpstreamRequest,
  head: ArrivedAnswer,
): Promise<void> {
  try {
    const { entry } = await lookUp.find(call)
    if (!entry || head.status !== 200 || call.bypass) return
    const stored = answerOfEntry(entry)
    const compared = comparedWithHead(stored.fields, head.fields)
    if (compared === 'other') await entries.updateTimes(entry.key, invalidatedTimes(entry, request.clock.now()))
    if (compared !== 'same') return
    const { kept } = renewed(request, stored, head)
    const keeping = kept.judge(entry.key)
    if (typeof keeping !== 'string') await entryWriter.put({ ...entry, ...timesOf(keeping), ...kept.form(keeping) })
  } catch (error) {
    request.trouble(`a stored answer of ${call.endpoint.provider}.${call.endpoint.name} cannot be compared with a head`, error)
  }
}
