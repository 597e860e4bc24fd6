import { jsonRpc } from '../protocols/json-rpc.js'
import type { Protocol } from '../protocols/protocol.js'
import { itemsIn, membersIn, valueIn } from '../rules/json-text.js'

/** What the body of a request says, as far as that shows without a rule. */
export interface SpokenCall {
  readonly protocol: Protocol
  /** The operation or method of a request that is no batch. */
  readonly operation: string | undefined
  /** Whether it only asks; undefined where the protocol does not tell. */
  readonly isQuery: boolean | undefined
  /** The same for all calls that ask the same. */
  readonly identity: string
  /** The text of an answer without what belongs to one call alone. */
  answerOf(text: string): string
}

/** Undefined where it is neither GraphQL nor JSON-RPC. */
export function spokenCall(text: string): SpokenCall | undefined {
  return remoteCall(text) ?? graphqlCall(text)
}

function remoteCall(text: string): SpokenCall | undefined {
  const request = jsonRpc.read({ method: 'POST', url: nowhere, text })
  if (!request?.calls.every(({ text: one }) => valueIn(membersIn(one) ?? [], 'jsonrpc') === '"2.0"')) return undefined
  const { calls, isBatch } = request
  const [first] = calls
  const sameId = { ...first, id: '0' } as (typeof calls)[number]
  return {
    ...{ protocol: 'json-rpc', operation: isBatch ? undefined : first?.name, isQuery: undefined },
    identity: JSON.stringify(calls.map(({ identity }) => identity)),
    answerOf: (reply) => (isBatch ? reply : jsonRpc.withIdOf(sameId, reply)),
  }
}

const nowhere = new URL('http://localhost')

function graphqlCall(text: string): SpokenCall | undefined {
  const requests = (itemsIn(text) ?? [text]).map(documentIn)
  if (requests.length === 0 || requests.includes(undefined)) return undefined
  const documents = requests as { readonly text: string; readonly name: string | undefined }[]
  return {
    protocol: 'graphql',
    operation: documents.length === 1 ? documents[0]?.name : undefined,
    isQuery: documents.every((one) => one.text !== '' && !/\b(mutation|subscription)\b/.test(one.text)),
    identity: text,
    answerOf: (reply) => reply,
  }
}

/** The document of a request, empty where another stands for it. */
function documentIn(text: string): { readonly text: string; readonly name: string | undefined } | undefined {
  const members = membersIn(text)
  if (!members) return undefined
  const query = textOf(valueIn(members, 'query'))
  if (query === undefined && !/"sha256Hash"|"documentId"/.test(text)) return undefined
  if (query !== undefined && !/^(\s|#.*\n)*(query|mutation|subscription|fragment|\{)/.test(query)) return undefined
  const name = textOf(valueIn(members, 'operationName')) ?? /^\s*query\s+(\w+)/.exec(query ?? '')?.[1]
  return { text: query ?? '', name }
}

function textOf(value: string | undefined): string | undefined {
  return value?.startsWith('"') ? (JSON.parse(value) as string) : undefined
}
