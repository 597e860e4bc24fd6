import { parse } from 'graphql'
import { Remembered } from '../remembered.js'
import { digestAgain } from '../rules/digest.js'
import { itemsIn, type Member, membersIn, objectOf, valueIn } from '../rules/json-text.js'
import { withIdOf } from './json-rpc.js'
import type { Documents, ProtocolCall, ProtocolReader } from './protocol.js'

interface Operation {
  readonly name: string | undefined
  readonly isQuery: boolean
}

/** The operations of documents, by the SHA-256 of their text: so they are known too where only that is sent. */
const known = new Remembered<readonly Operation[]>(1024 * 1024)

/** What a request may have in place of a document: ids of documents that its server knows. */
const idNames = ['documentId', 'id', 'doc_id', 'queryId']

/**
 * GraphQL over HTTP: a document with its operations, or what stands for one that the server knows: the SHA-256 of its text (in
 * `extensions.persistedQuery`) or an id. The document says which operations only ask; one that is not known is a write, but by GET.
 */
export const graphql: ProtocolReader = {
  read({ method, url, text }, documents) {
    if (method === 'GET' || method === 'HEAD') return { calls: [callByUrl(url, documents)], isBatch: false }
    const items = itemsIn(text ?? '')
    const calls = (items ?? [text ?? '']).map((one) => callIn(one, documents))
    return calls.length === 0 || calls.includes(undefined) ? undefined : { calls: calls as ProtocolCall[], isBatch: items !== undefined }
  },

  faultOf(_call, reply) {
    let said: unknown
    try {
      said = JSON.parse(reply)
    } catch {
      return 'foreign'
    }
    if (typeof said !== 'object' || said === null || Array.isArray(said)) return 'foreign'
    const { data, errors } = said as { readonly data?: unknown; readonly errors?: unknown }
    if (errors !== undefined && errors !== null) return asksForDocument(errors) ? 'unknown-document' : 'errors'
    return data === undefined ? 'foreign' : undefined
  },

  repliesIn(response, calls) {
    const items = itemsIn(response)
    if (items?.length !== calls.length) return undefined
    const byId = new Map(items.map((item) => [idIn(item), item]))
    const hasIds = byId.size === calls.length && calls.every(({ id }) => id !== undefined && byId.has(id))
    return hasIds ? calls.map(({ id }) => byId.get(id)) : items
  },

  withIdOf,
}

/** The id of a reply, as it is written: some servers give back the one that came beside a document. */
function idIn(reply: string): string | undefined {
  return valueIn(membersIn(reply) ?? [], 'id')
}

/** Whether a server that knows documents by their hash does not know this one. */
function asksForDocument(errors: unknown): boolean {
  const list: unknown[] = Array.isArray(errors) ? errors : []
  return list.some((error) => /PERSISTED_?QUERY_?NOT_?(FOUND|SUPPORTED)/i.test(JSON.stringify(error)))
}

/** Undefined where it is no request of GraphQL. */
function callIn(text: string, documents: Documents | undefined): ProtocolCall | undefined {
  const members = membersIn(text)
  if (!members) return undefined
  const extensions = members.find(({ name }) => name === 'extensions')
  const [operationName, query] = [textIn(members, 'operationName'), textIn(members, 'query')]
  const persisted = extensions && splitExtensions(extensions)
  const id = idNames.map((name) => textIn(members, name)).find((one) => one !== undefined)
  const document = documentOf({ query, hash: persisted?.hash, id }, documents)
  if (document === undefined) return undefined
  const chosen = operationOf(document, operationName)
  const rest = members.flatMap((member) => {
    if (member.name === 'query' || idNames.includes(member.name)) return []
    return member === extensions && persisted ? persisted.rest : [member]
  })
  const identity = objectOf([...rest, { name: 'document', text: JSON.stringify(document) }])
  const own = query === undefined ? undefined : idIn(text) // else it stands for the document
  return {
    name: operationName ?? chosen?.name,
    isQuery: chosen?.isQuery ?? false,
    isUnknownDocument: query === undefined && known.get(document) === undefined,
    identity,
    id: own,
    isAnswered: true,
    sent: text,
    text: own ? objectOf(members.filter(({ name }) => name !== 'id')) : text,
  }
}

/** GET may ask only (GraphQL over HTTP, section 6.2): only what is known to be more is a write. */
function callByUrl({ searchParams }: URL, documents: Documents | undefined): ProtocolCall {
  const operationName = searchParams.get('operationName') ?? undefined
  const extensions = searchParams.get('extensions') ?? undefined
  const hash = extensions === undefined ? undefined : splitExtensions({ text: extensions })?.hash
  const id = idNames.map((name) => searchParams.get(name) ?? undefined).find((one) => one !== undefined)
  const document = documentOf({ query: searchParams.get('query') ?? undefined, hash, id }, documents)
  const chosen = document === undefined ? undefined : operationOf(document, operationName)
  const isQuery = chosen?.isQuery ?? true
  return { name: operationName ?? chosen?.name, isQuery, identity: undefined, id: undefined, isAnswered: true, sent: '', text: '' }
}

interface Said {
  readonly query: string | undefined
  readonly hash: string | undefined
  readonly id: string | undefined
}

/** What a document is known by: the SHA-256 of its text, where that is known. */
function documentOf({ query, hash, id }: Said, documents: Documents | undefined): string | undefined {
  const text =
    query ??
    [hash, id].map((one) => (one !== undefined && documents && Object.hasOwn(documents, one) ? documents[one] : undefined)).find(Boolean)
  if (text === undefined) return hash ?? (id === undefined ? undefined : `id ${id}`)
  const digest = digestAgain(text)
  if (!known.get(digest)) known.set(digest, operationsIn(text))
  return digest
}

/** What is asked for of a document; undefined where that is not known. */
function operationOf(document: string, name: string | undefined): Operation | undefined {
  const operations = known.get(document) ?? []
  return name === undefined ? (operations.length === 1 ? operations[0] : undefined) : operations.find((one) => one.name === name)
}

/** None where the text is no document. */
function operationsIn(text: string): Operation[] {
  try {
    const { definitions } = parse(text, { noLocation: true })
    return definitions.flatMap((one) =>
      one.kind === 'OperationDefinition' ? [{ name: one.name?.value, isQuery: one.operation === 'query' }] : [],
    )
  } catch {
    return []
  }
}

function textIn(members: readonly Member[], wanted: string): string | undefined {
  const value = valueIn(members, wanted)
  return value?.startsWith('"') ? (JSON.parse(value) as string) : undefined
}

/** The hash of the document that stands in extensions, and what else does. */
function splitExtensions({
  text,
}: Pick<Member, 'text'>): { readonly hash: string | undefined; readonly rest: readonly Pick<Member, 'name' | 'text'>[] } | undefined {
  const members = membersIn(text)
  const persisted = members?.find(({ name }) => name === 'persistedQuery')
  if (!members || !persisted) return undefined
  const others = members.filter((member) => member !== persisted)
  const hash = textIn(membersIn(persisted.text) ?? [], 'sha256Hash')?.toLowerCase()
  return { hash, rest: others.length === 0 ? [] : [{ name: 'extensions', text: objectOf(others) }] }
}
