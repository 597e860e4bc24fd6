import { itemsIn, membersIn, objectOf, valueIn } from '../rules/json-text.js'
import type { ProtocolCall, ProtocolReader } from './protocol.js'

/**
 * JSON-RPC 2.0, and 1.0: requests have a `method` and an `id`, by which each reply is told from others; those without an id get no reply.
 * Batches are arrays of them, whose replies come in any order (JSON-RPC 2.0, sections 4 to 6).
 */
export const jsonRpc: ProtocolReader = {
  read({ text = '' }) {
    const items = itemsIn(text)
    const calls = (items ?? [text]).map(callIn)
    if (calls.length === 0 || calls.includes(undefined)) return undefined
    const known = calls as ProtocolCall[]
    const ids = known.flatMap(({ id }) => (id === undefined ? [] : [idOf(id)]))
    return new Set(ids).size === ids.length ? { calls: known, isBatch: items !== undefined } : undefined
  },

  faultOf({ id }, reply) {
    const members = membersIn(reply)
    if (!members) return 'foreign'
    if (![undefined, 'null'].includes(valueIn(members, 'error'))) return 'errors'
    const its = valueIn(members, 'id')
    const isIts = its !== undefined && id !== undefined && idOf(its) === idOf(id)
    return isIts && valueIn(members, 'result') !== undefined ? undefined : 'foreign'
  },

  repliesIn(response, calls) {
    const replies = new Map<unknown, string>()
    for (const item of itemsIn(response) ?? []) {
      const members = membersIn(item)
      const id = members && valueIn(members, 'id')
      if (id === undefined || replies.has(idOf(id))) return undefined
      replies.set(idOf(id), item)
    }
    const asked = calls.filter(({ isAnswered }) => isAnswered)
    if (replies.size !== asked.length || !asked.every(({ id }) => replies.has(idOf(id as string)))) return undefined
    return calls.map(({ id }) => (id === undefined ? undefined : replies.get(idOf(id))))
  },

  withIdOf,
}

/** A reply with the id of a call, where it has one; the rest of it stays as it is written. */
export function withIdOf({ id }: ProtocolCall, reply: string): string {
  const its = id === undefined ? undefined : membersIn(reply)?.find(({ name }) => name === 'id')
  return its && its.text !== id ? `${reply.slice(0, its.start)}${id}${reply.slice(its.end)}` : reply
}

/** Undefined where it is none, or has an id that no reply can be told by. */
function callIn(text: string): ProtocolCall | undefined {
  const members = membersIn(text)
  const method = members && valueIn(members, 'method')
  if (!members || method === undefined || !method.startsWith('"')) return undefined
  const id = valueIn(members, 'id')
  if (id !== undefined && !/^["\d-]/.test(id)) return undefined
  const identity = objectOf(members.filter(({ name }) => name !== 'id'))
  const isAnswered = id !== undefined
  return {
    name: JSON.parse(method) as string,
    isQuery: isAnswered ? undefined : false,
    identity,
    id,
    isAnswered,
    sent: text,
    text: identity,
  }
}

/** What an id is, whichever way it is written. */
function idOf(text: string): unknown {
  return JSON.parse(text)
}
