import type { RuleBook } from '../../core/endpoints/rule-book.js'
import { narrowed } from '../../core/http/no-vary-search.js'
import { signpostOf } from '../../core/http/variants.js'
import type { EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import type { Mode } from '../../core/rules/mode.js'
import { pathInKey, placeOfRequest } from '../../core/rules/request-key.js'
import { sentRequest } from '../../core/rules/sent-request.js'

/** Methods that change nothing (RFC 9110 section 9.2.1). */
const safeMethods = ['GET', 'HEAD', 'OPTIONS', 'TRACE']

/** Methods whose answers may be stored. */
const storedMethods = ['GET', 'POST']

export function isUnsafe(method: string): boolean {
  return !safeMethods.includes(method)
}

/** Invalidates what a selection means, stored or on its way; what was measured where the mode of an endpoint is to measure. */
export type Invalidate = (selection: Selection, mode?: Mode) => Maybe<void>

/** Invalidates what requests may have changed that were answered (RFC 9111 section 4.4). */
export class Invalidation {
  readonly #rules: RuleBook
  readonly #entries: EntryStore
  readonly #invalidate: Invalidate

  constructor(rules: RuleBook, entries: EntryStore, invalidate: Invalidate) {
    this.#rules = rules
    this.#entries = entries
    this.#invalidate = invalidate
  }

  /** What has one of these labels. */
  async of(labels: readonly string[]): Promise<void> {
    await Promise.all(labels.map((label) => this.#invalidate({ label })))
  }

  /** What is stored for a URL, with whatever query, and for those of the same origin that its answer names. */
  async after(url: URL, header: (name: string) => string | undefined): Promise<void> {
    const named = ['location', 'content-location'].flatMap((field) => {
      const target = header(field)
      return target !== undefined && URL.canParse(target, url.href) ? [new URL(target, url.href)] : []
    })
    for (const target of [url, ...named.filter(({ origin }) => origin === url.origin)]) {
      const bare = new URL(target)
      bare.search = ''
      for (const method of storedMethods) {
        await this.#one(method, target)
        if (target.search !== '') await this.#one(method, bare)
        const { provider } = this.#rules.match(method, bare)
        const stored = provider?.endpoints.filter((one) => one.template.method === method && one.freshForMs !== undefined)
        const path = `${method} ${bare.origin}${provider ? pathInKey(provider, bare) : ''}`
        for (const mode of new Set(stored?.map((one) => one.mode))) await this.#invalidate({ path }, mode)
      }
    }
  }

  async #one(method: string, url: URL): Promise<void> {
    const { provider, endpoint } = this.#rules.match(method, url)
    if (!provider || !endpoint || endpoint.freshForMs === undefined) return
    const { keying, mode } = endpoint
    const request = sentRequest({ method, url, header: () => null })
    try {
      await this.#invalidate({ under: placeOfRequest(provider, keying, request) }, mode)
      const path = placeOfRequest(provider, { ...keying, usesParameter: () => false }, request)
      const signpost = signpostOf((await this.#entries.get(`${path} search`))?.head ?? '')
      if (signpost && 'search' in signpost)
        await this.#invalidate({ under: placeOfRequest(provider, narrowed(keying, signpost.search), request) }, mode)
    } catch {
      // a key function that needs more of a request than its URL: nothing can be said of what is stored
    }
  }
}
