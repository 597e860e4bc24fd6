import type { Excerpt } from '../../core/decide/decide.js'
import { byteRange } from '../../core/http/byte-range.js'
import { conditionOf, fieldsOfNotModified, rangeHolds, senderHasIt } from '../../core/http/conditions.js'
import { fieldValue } from '../../core/http/stored-head.js'
import { isSignpost } from '../../core/http/variants.js'
import type { Entry } from '../../core/ports/entry-store.js'
import { answerOfEntry, type CompleteAnswer } from './http-answer.js'

type Read = (name: string) => string | null

/** What a request asks for of an answer, other than all of it. */
export function excerptOf(method: string, header: Read): Excerpt | undefined {
  if (method === 'HEAD') return 'head-asked'
  if (header('range') !== null) return 'range-asked'
  return conditionOf(header) === undefined ? undefined : 'condition-asked'
}

/** Whether a stored answer, if it may be used, is enough to answer such a request. */
export function canExcerpt(excerpt: Excerpt, header: Read, entry: Entry): boolean {
  if (isSignpost(entry.head) || conditionOf(header) === 'theirs') return false
  if (excerpt !== 'range-asked') return true
  const { status, fields, body } = answerOfEntry(entry)
  if (status !== 200 || fieldValue(fields, 'content-encoding') !== undefined) return false // the bytes are not those that were sent
  return !rangeHolds(header, fields) || byteRange(header('range') ?? '', body.byteLength) !== undefined
}

/** The excerpt of a stored answer: 304 (RFC 9111 section 4.3.2), 206 or 416 (RFC 9110 section 14), or the whole where that is due. */
export function excerpted(answer: CompleteAnswer, storedAt: number, header: Read): CompleteAnswer {
  const { status, fields, body } = answer
  if (status !== 200) return answer
  if (senderHasIt(header, fields, storedAt)) {
    return { ...answer, status: 304, statusText: 'Not Modified', fields: fieldsOfNotModified(fields), body: new Uint8Array() }
  }
  const asked = header('range')
  const range = asked !== null && rangeHolds(header, fields) ? byteRange(asked, body.byteLength) : undefined
  if (range === undefined) return answer
  const others = fields.filter(([name]) => name !== 'content-length')
  if (range === 'out-of-reach') {
    const unsatisfied = [...others.filter(([name]) => name !== 'content-type'), ['content-range', `bytes */${body.byteLength}`] as const]
    return { ...answer, status: 416, statusText: 'Range Not Satisfiable', fields: unsatisfied, body: new Uint8Array() }
  }
  const part = body.slice(range.first, range.last + 1)
  const contentRange = `bytes ${range.first}-${range.last}/${body.byteLength}`
  return {
    ...answer,
    ...{ status: 206, statusText: 'Partial Content', body: part },
    fields: [...others, ['content-length', String(part.byteLength)], ['content-range', contentRange]],
  }
}
