import { jsonOf } from './json-of.js'
import type { KeyedRequest, SentRequest } from './keying.js'

const decoder = new TextDecoder()

/** A request as functions of the configuration see it. */
export function sentRequest(facts: Omit<SentRequest, 'text' | 'json'>): SentRequest
export function sentRequest(facts: Omit<KeyedRequest, 'text' | 'json'>): KeyedRequest
export function sentRequest(facts: Omit<KeyedRequest, 'text' | 'json'>): KeyedRequest {
  const text = () => (facts.body ? decoder.decode(facts.body) : '')
  return { ...facts, text, json: () => jsonOf(text(), 'the body of the request') }
}
