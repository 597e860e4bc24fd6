import type { RuleBook } from '../../core/endpoints/rule-book.js'
import { narrowed } from '../../core/http/no-vary-search.js'
import { signpostOf } from '../../core/http/variants.js'
import type { EntryStore } from '../../core/ports/entry-store.js'
import type { Mode } from '../../core/rules/mode.js'
import { placeOfRequest } from '../../core/rules/request-key.js'

/** Methods that change nothing (RFC 9110 section 9.2.1). */
const safeMethods = ['GET', 'HEAD', 'OPTIONS', 'TRACE']

/** Methods whose answers may be stored. */
const storedMethods = ['GET', 'POST']

export function isUnsafe(method: string): boolean {
  return !safeMethods.includes(method)
}

/** Invalidates what requests may have changed that were answered (RFC 9111 section 4.4). */
export class Invalidation {
  readonly #rules: RuleBook
  readonly #entries: EntryStore
  readonly #invalidate: (under: string, mode: Mode) => Promise<void>

  /** `invalidate` invalidates what is stored under a key and what is on its way there. */
  constructor(rules: RuleBook, entries: EntryStore, invalidate: (under: string, mode: Mode) => Promise<void>) {
    this.#rules = rules
    this.#entries = entries
    this.#invalidate = invalidate
  }

  /** What is stored for a URL, and for those of the same origin that its answer names. */
  async after(url: URL, header: (name: string) => string | undefined): Promise<void> {
    const named = ['location', 'content-location'].flatMap((field) => {
      const target = header(field)
      return target !== undefined && URL.canParse(target, url.href) ? [new URL(target, url.href)] : []
    })
    for (const target of [url, ...named.filter(({ origin }) => origin === url.origin)]) {
      for (const method of storedMethods) await this.#one(method, target)
    }
  }

  async #one(method: string, url: URL): Promise<void> {
    const { provider, endpoint } = this.#rules.match(method, url)
    if (!provider || !endpoint || endpoint.freshForMs === undefined) return
    const { keying } = endpoint
    const request = { method, url, header: () => null }
    try {
      await this.#invalidate(placeOfRequest(provider, keying, request), endpoint.mode)
      const path = placeOfRequest(provider, { ...keying, usesParameter: () => false }, request)
      const signpost = signpostOf((await this.#entries.get(`${path} search`))?.head ?? '')
      if (signpost && 'search' in signpost)
        await this.#invalidate(placeOfRequest(provider, narrowed(keying, signpost.search), request), endpoint.mode)
    } catch {
      // a key function that needs more of a request than its URL: nothing can be said of what is stored
    }
  }
}
