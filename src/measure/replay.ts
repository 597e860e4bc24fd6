import type { Store } from '../core/ports/store.js'
import type { SeenCall } from '../core/traffic/seen-call.js'
import { type SentBy, sentBy, type WholeResponse, wholeResponse } from '../engine/http/sent-by.js'
import { openStash } from '../open-stash.js'
import type { Stash } from '../stash.js'
import { memoryStore } from '../stores/memory/store.js'
import { copyLedger } from './copy-ledger.js'
import type { StarterConfig } from './starter-config.js'

/** Counts calls that were seen in a ledger, as a stash that only measures would have: so that reports can be asked for. */
export class Replay {
  readonly #measured = memoryStore() // its ledger stays when it is closed
  readonly #stash: Promise<Stash>
  /** The call that is counted. */
  #call: SeenCall | undefined
  #now = 0
  #ticks = 0

  constructor(config: StarterConfig) {
    this.#stash = openStash({
      ...config,
      store: this.#measured,
      refusals: 'respond',
      clock: { now: () => this.#now, ticks: () => this.#ticks, later: () => () => {} },
      warn: () => {},
    })
  }

  /** When the call began that was counted last. */
  get at(): number {
    return this.#now
  }

  /** Counts a call. One after the other, in the order in which they began. */
  async count(call: SeenCall): Promise<void> {
    const stash = await this.#stash
    this.#call = call
    this.#now = call.at
    const url = `${call.origin}${call.path}?call=${encodeURIComponent(call.key)}`
    const send: SentBy = async () => this.#answer()
    const init = { method: call.method, ...bodyOf(call), [sentBy]: send }
    const response = await stash.fetch(url, init).catch(() => undefined)
    await response?.text().catch(() => undefined)
  }

  /** Adds what was counted to a store, which is opened for it and closed. Counts no more. */
  async into(store: Store): Promise<void> {
    await (await this.#stash).close()
    await copyLedger(this.#measured, store, this.#now)
  }

  /** Counts no more. */
  async discard(): Promise<void> {
    await (await this.#stash).close()
  }

  #answer(): WholeResponse {
    const { ms = 0, status, answer, isQuery } = this.#call ?? {}
    this.#ticks += ms
    if (status === undefined) throw new TypeError('no answer came')
    const isEmpty = status === 204 || status === 205 || status === 304
    const said = answer ?? `${this.#ticks}`
    const body = isEmpty ? '' : isQuery ? JSON.stringify({ data: said }) : said
    return wholeResponse({ status, statusText: '', fields: [['content-type', 'text/plain']], bytes: encoder.encode(body) })
  }
}

const encoder = new TextEncoder()

/** A query of GraphQL that is the same for the same calls; none for other requests, whose bodies nothing depends on. */
function bodyOf({ isQuery, operation = '', key }: SeenCall): { readonly body?: string } {
  const name = /^[A-Za-z_]\w*$/.test(operation) ? operation : ''
  return isQuery ? { body: JSON.stringify({ query: `query ${name} { seen }`, variables: { key } }) } : {}
}
