import type { Provider, RequestEndpoint } from '../../core/endpoints/endpoint.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import { digestOf } from '../../core/rules/digest.js'
import type { SentRequest } from '../../core/rules/keying.js'
import { Redaction } from '../../core/rules/redaction.js'
import { requestKey } from '../../core/rules/request-key.js'
import { yesOrNo } from '../../core/rules/yes-or-no.js'
import { CredentialNotices } from './credential-notices.js'

/** What the rule says of a request. */
interface Said {
  readonly key: string
  readonly excepted: boolean
  readonly tenant: string | undefined
}

/** What rules say of requests, with the functions that the configuration has for that. */
export class SaidOfRequests {
  readonly #trouble: OncePerEpisode
  readonly #notices: CredentialNotices

  constructor(warn: (message: string) => void) {
    this.#trouble = new OncePerEpisode(warn)
    this.#notices = new CredentialNotices(warn)
  }

  /** The key of a request and whether it is excepted; undefined where a function of the rule fails: then it goes by as if it had none. */
  of(provider: Provider, endpoint: RequestEndpoint, request: SentRequest): Said | undefined {
    try {
      this.#notices.look(provider, endpoint, request)
      const key = requestKey(provider, endpoint.keying, request)
      const excepted = yesOrNo(endpoint.exceptRequest?.(request), 'exceptRequest')
      const tenant = endpoint.countBy === 'per' ? this.#tenant(provider, endpoint, request) : undefined
      this.#trouble.fine(endpoint)
      return { key, excepted, tenant }
    } catch (cause) {
      const error = new Redaction(provider.credentials, request).error(cause)
      this.#trouble.trouble(`${provider.name}.${endpoint.name} gives no key, its calls go upstream until it does`, error, endpoint)
      return undefined
    }
  }

  /** Who calls, as the ledger names them: by a digest where the name is a credential or holds one. */
  #tenant(provider: Provider, { keying }: RequestEndpoint, request: SentRequest): string | undefined {
    const name = keying.per?.(request)
    if (name === undefined) return undefined
    const safe = new Redaction(provider.credentials, request).text(name)
    return safe === name ? name : `tenant ${digestOf(name).slice(0, 12)}`
  }
}
