import type { KeyedRequest } from '../rules/keying.js'

export const protocols = ['graphql', 'json-rpc'] as const
/** What the bodies of an endpoint are: GraphQL over HTTP, or JSON-RPC 2.0 (and 1.0). */
export type Protocol = (typeof protocols)[number]

/** One call of a request in a protocol: a request that is a batch has several. */
export interface ProtocolCall {
  /** Its operation (GraphQL) or method (JSON-RPC); undefined where it says none. */
  readonly name: string | undefined
  /** Whether it only asks. Undefined: the protocol does not tell, the endpoint's rule says so by name. */
  readonly isQuery: boolean | undefined
  /** Whether it names a document by a hash or id whose text is not known, so that nobody can tell whether it only asks. */
  readonly isUnknownDocument?: boolean
  /** What distinguishes it from other calls, as JSON text: without its id. Undefined: the URL does. */
  readonly identity: string | undefined
  /** Its id, as JSON text; undefined where replies have none. */
  readonly id: string | undefined
  /** Whether a reply comes. */
  readonly isAnswered: boolean
  /** The call as it was sent, JSON text. */
  readonly sent: string
  /** The same without its id. */
  readonly text: string
}

export interface ProtocolRequest {
  readonly calls: readonly ProtocolCall[]
  readonly isBatch: boolean
}

/** `errors`: it says that the call failed. `unknown-document`: its caller has to send the document. `foreign`: it is no reply to the call. */
type ReplyFault = 'errors' | 'unknown-document' | 'foreign'

/** How the requests and responses of a protocol are read. Texts are JSON or not: none of it throws. */
export interface ProtocolReader {
  /** What a request asks; undefined where that cannot be told, so that it is a write. `text`: its body, if it has one. */
  read(
    request: Pick<KeyedRequest, 'method' | 'url'> & { readonly text?: string | undefined },
    documents?: Documents,
  ): ProtocolRequest | undefined
  /** What is wrong with the reply to a call; undefined where it is good. */
  faultOf(call: ProtocolCall, reply: string): ReplyFault | undefined
  /** The replies to the calls of a batch, in their order; undefined where the response is none to a batch. */
  repliesIn(response: string, calls: readonly ProtocolCall[]): (string | undefined)[] | undefined
  /** The reply with the id of a call. */
  withIdOf(call: ProtocolCall, reply: string): string
}

/** Texts of GraphQL documents by the ids that are sent in place of them. */
export type Documents = Readonly<Record<string, string>>
