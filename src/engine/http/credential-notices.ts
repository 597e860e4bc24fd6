import type { Provider, RequestEndpoint } from '../../core/endpoints/endpoint.js'
import type { SentRequest } from '../../core/rules/keying.js'

/** Notices of one process, at the most: names come from requests. */
const mostNotices = 100

/** Says once of each endpoint that callers with different credentials share its answers. */
export class CredentialNotices {
  readonly #warn: (message: string) => void
  readonly #told = new Set<string>()

  constructor(warn: (message: string) => void) {
    this.#warn = warn
  }

  look({ credentials }: Provider, { provider, name, keying }: RequestEndpoint, { url, fields }: SentRequest): void {
    if (!keying.shared || this.#told.size >= mostNotices) return
    const place = `${provider}.${name}`
    for (const [field] of fields) if (credentials.isField(field)) this.#sees(place, field)
    if (url.search === '') return
    for (const parameter of url.searchParams.keys()) if (credentials.isParameter(parameter)) this.#sees(place, `?${parameter}`)
  }

  #sees(place: string, what: string): void {
    if (this.#told.has(place)) return
    this.#told.add(place)
    this.#warn(
      `${place} is "shared", and its requests carry credentials (${what}): callers with different ones get the same answers; leave "shared" out unless that is meant`,
    )
  }
}
