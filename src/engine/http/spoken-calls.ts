import type { RequestEndpoint, Spoken } from '../../core/endpoints/endpoint.js'
import type { ProtocolCall, ProtocolReader, ProtocolRequest } from '../../core/protocols/protocol.js'

/** What a request says in the protocol of its endpoint. */
export interface Asked {
  readonly reader: ProtocolReader
  readonly call: ProtocolCall
}

/** Fields that hold for the bytes of a body as they are: no part of it may be sent under them, nor be read where it is coded. */
const ofBytes = [
  ...['content-encoding', 'content-digest', 'repr-digest', 'digest', 'content-md5', 'signature', 'signature-input'],
  ...['x-amz-content-sha256', 'content-range'],
]

/** What the body of a request asks; undefined where that cannot be told. */
export function callsIn(
  { reader, documents }: Spoken,
  { method, url, headers, bytes }: { readonly method: string; readonly url: URL; readonly headers: Headers; readonly bytes: Uint8Array },
): ProtocolRequest | undefined {
  const type = headers.get('content-type') ?? ''
  if (ofBytes.some((name) => headers.has(name)) || /^\s*(multipart\/|application\/x-www-form-urlencoded)/i.test(type)) return undefined
  if (/;\s*charset=(?!"?utf-8"?\s*(;|$))/i.test(type)) return undefined
  try {
    return reader.read({ method, url, text: decoder.decode(bytes) }, documents)
  } catch {
    return undefined // bytes that are no UTF-8
  }
}

const decoder = new TextDecoder('utf-8', { fatal: true, ignoreBOM: true })

/** What holds for a call. */
export function ruleFor({ usual, byName }: Spoken, { name, isQuery }: ProtocolCall): RequestEndpoint {
  const kinds = (name === undefined ? undefined : byName.get(name)) ?? usual
  if (isQuery === undefined) return kinds.unknown
  return isQuery ? kinds.query : kinds.write
}
