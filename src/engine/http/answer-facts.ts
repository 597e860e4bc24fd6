import { serverSentEvents } from '../../core/http/server-sent-events.js'
import type { Fields } from '../../core/http/stored-head.js'
import type { AnswerFacts } from '../../core/rules/freshness.js'
import { jsonOf } from '../../core/rules/json-of.js'

interface Head {
  readonly status: number
  readonly fields: Fields
}

/** A complete answer, as functions of the configuration see it. */
export function factsOf(head: Head, body: Uint8Array): AnswerFacts {
  const known = headOnly(head)
  const text = () => decoder.decode(body)
  const isStream = /^text\/event-stream\b/i.test(known.header('content-type') ?? '')
  return { ...known, json: () => jsonOf(text(), 'the body of the answer'), text, events: () => (isStream ? serverSentEvents(text()) : []) }
}

/** An answer of which only the head has arrived. */
export function headOnly({ status, fields }: Head): AnswerFacts {
  const header = (name: string) => new Headers(fields as [string, string][]).get(name)
  return { status, header, json: () => undefined, text: () => '', events: () => [] }
}

const decoder = new TextDecoder()
