import type { Selection } from '../../core/ports/selection.js'
import { Remembered } from '../../core/remembered.js'
import { KeyDigests } from './key-digests.js'
import type { Secret } from './options.js'
import { Sealing } from './sealing.js'

/** What is remembered of keys by their digests, bytes. */
const rememberedBytes = 4 * 1024 * 1024

/** The secrets of a store: the first one seals, all open. */
export class Sealings {
  readonly all: readonly Sealing[]
  readonly #keys = new Remembered<string>(rememberedBytes)

  constructor(secrets: readonly Secret[]) {
    this.all = secrets.map((secret) => new Sealing(secret, new KeyDigests(secret)))
  }

  get isNone(): boolean {
    return this.all.length === 0
  }

  get current(): Sealing | undefined {
    return this.all[0]
  }

  /** Whose id this is. */
  of(id: string | undefined): Sealing | undefined {
    return this.all.find(({ digests }) => digests.id === id)
  }

  /** The key under which an entry is kept. */
  digest(key: string): string {
    return this.current ? this.digestBy(this.current, key) : key
  }

  digestBy({ digests }: Sealing, key: string): string {
    const digest = digests.of(key)
    this.#keys.set(digest, key, [key])
    return digest
  }

  olderDigests(key: string): string[] {
    return this.all.slice(1).map((sealing) => this.digestBy(sealing, key))
  }

  /** The key of a digest, if it was asked for not long ago. */
  keyOf(digest: string): string | undefined {
    return this.#keys.get(digest)
  }

  /** A selection as the store knows it: one for each secret, unless it is the same for all. */
  selections(selection: Selection): Selection[] {
    const each = this.all.flatMap(({ digests }) => digests.ofSelection(selection) ?? [])
    return each.length > 0 ? each : [selection]
  }
}
