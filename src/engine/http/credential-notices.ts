import type { Provider, RequestEndpoint } from '../../core/endpoints/endpoint.js'
import { type Credentials, looksSecret } from '../../core/rules/credentials.js'
import type { SentRequest } from '../../core/rules/keying.js'

/** Notices of one process, at the most: names come from requests. */
const mostNotices = 100

/** Says, once each, where the credentials of requests may not be treated as they should be. */
export class CredentialNotices {
  readonly #warn: (message: string) => void
  readonly #told = new Set<string>()

  constructor(warn: (message: string) => void) {
    this.#warn = warn
  }

  look({ credentials }: Provider, { provider, name, keying }: RequestEndpoint, { url, fields }: SentRequest): void {
    if (this.#told.size >= mostNotices) return
    const place = `${provider}.${name}`
    const listed = keying.headers ?? []
    for (const [field] of fields) {
      if (credentials.isField(field)) this.#sees(place, keying.shared, field)
      else if (!listed.includes(field)) this.#doubts(place, credentials, field, 'secretHeaders')
    }
    if (url.search === '') return
    for (const parameter of url.searchParams.keys()) {
      if (credentials.isParameter(parameter)) this.#sees(place, keying.shared, `?${parameter}`)
      else this.#doubts(place, credentials, parameter, 'secretQuery')
    }
  }

  #sees(place: string, isShared: boolean, what: string): void {
    if (!isShared) return
    this.#once(
      `${place} shared`,
      `${place} is "shared", and its requests carry credentials (${what}): callers with different ones get the same answers; leave "shared" out unless that is meant`,
    )
  }

  #doubts(place: string, credentials: Credentials, name: string, option: 'secretHeaders' | 'secretQuery'): void {
    if (!looksSecret(name) || credentials.isCleared(name)) return
    this.#once(
      `${place} ${option} ${name}`,
      `requests to ${place} carry "${name}", which looks like a credential and is not treated as one: name it in "${option}" of the provider, or in "notSecret" where it is none`,
    )
  }

  #once(about: string, message: string): void {
    if (this.#told.has(about)) return
    this.#told.add(about)
    this.#warn(message)
  }
}
