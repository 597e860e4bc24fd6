import type { Agent, ClientRequestArgs } from 'node:http'
import type { ClientSocket } from './client-socket.js'

/** Options of a request, as `node:http` hands them on. */
export type Options = ClientRequestArgs & { readonly servername?: string; readonly [option: string]: unknown }

/** Where the requests of a connection would have gone. */
export interface Link {
  readonly client: ClientSocket
  readonly agent: Agent
  readonly options: Options
  readonly protocol: 'http:' | 'https:'
  readonly origin: string
  readonly host: string
  /** What of it may say who calls. */
  readonly own: object
}
