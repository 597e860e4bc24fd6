import { graphql } from './graphql.js'
import { jsonRpc } from './json-rpc.js'
import type { Protocol, ProtocolReader } from './protocol.js'

/** What reads each protocol. Loaded only where an endpoint speaks one. */
export const readers: Readonly<Record<Protocol, ProtocolReader>> = { graphql, 'json-rpc': jsonRpc }
