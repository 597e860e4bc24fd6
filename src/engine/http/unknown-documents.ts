import type { RequestEndpoint } from '../../core/endpoints/endpoint.js'
import type { ProtocolCall } from '../../core/protocols/protocol.js'

/** Calls by unknown documents that are remembered, at the most. */
const mostCalls = 1_000

/** Tells, once an endpoint, of documents that stay unknown. A client that is asked for the text of one sends it, once: what comes again without it is told. */
export class UnknownDocuments {
  readonly #warn: (message: string) => void
  readonly #calls = new Set<string>()
  readonly #told = new Set<string>()

  constructor(warn: (message: string) => void) {
    this.#warn = warn
  }

  look({ provider, name }: RequestEndpoint, { isUnknownDocument, identity = '' }: ProtocolCall): void {
    const place = `${provider}.${name}`
    if (!isUnknownDocument || this.#told.has(place)) return
    const call = `${place} ${identity}`
    if (!this.#calls.has(call)) {
      if (this.#calls.size < mostCalls) this.#calls.add(call)
      return
    }
    this.#told.add(place)
    const next = 'give their texts as "documents" of the endpoint'
    this.#warn(`requests of ${place} name documents by hashes or ids whose text was not seen: they are sent on each time; ${next}`)
  }
}
