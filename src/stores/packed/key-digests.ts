import { hkdf } from '@noble/hashes/hkdf.js'
import { hmac } from '@noble/hashes/hmac.js'
import { sha256 } from '@noble/hashes/sha2.js'
import { utf8ToBytes } from '@noble/hashes/utils.js'
import type { Selection } from '../../core/ports/selection.js'
import { Remembered } from '../../core/remembered.js'
import type { Secret } from './options.js'

/** What is remembered of digests, bytes. */
const rememberedBytes = 1024 * 1024

/** Bytes of a digest that are kept. */
const digestBytes = 16

/** Parts of a key that are digested each, at the most: keys of requests have fewer. */
const mostParts = 64

/** A key for one purpose, of a secret that serves several (HKDF, RFC 5869). */
export function derived({ bytes }: Secret, purpose: string): Uint8Array {
  return hkdf(sha256, bytes, undefined, utf8ToBytes(`stashen ${purpose}`), 32)
}

/**
 * Digests of keys and labels under a secret (HMAC-SHA-256, RFC 2104). Each part of a key, up to a space or a question mark, has one of all that comes before it and itself, so
 * that keys that begin alike up to there still do, and can be selected together.
 */
export class KeyDigests {
  readonly id: string
  readonly #key: Uint8Array
  readonly #known = new Remembered<string>(rememberedBytes)

  constructor(secret: Secret) {
    this.id = secret.id
    this.#key = derived(secret, 'keys of entries')
  }

  of(key: string): string {
    const known = this.#known.get(key)
    if (known !== undefined) return known
    let digest = `${this.id}:`
    let [before, begin] = ['', 0]
    for (let parts = 1; ; parts++) {
      const end = parts < mostParts ? nextEnd(key, begin) : key.length
      before = this.#digest(`${before}\0${key.slice(begin, end)}`)
      digest += before
      if (end === key.length) break
      digest += key[end]
      before += key[end]
      begin = end + 1
    }
    this.#known.set(key, digest, [digest])
    return digest
  }

  ofLabel(label: string): string {
    return `${this.id}:${this.#digest(`label\0${label}`)}`
  }

  /** The same selection of digested entries; undefined where it is the same for all secrets. */
  ofSelection(selection: Selection): Selection | undefined {
    if ('key' in selection) return { key: this.of(selection.key) }
    if ('under' in selection) return { under: this.of(selection.under) }
    if ('path' in selection) return { path: this.of(selection.path) }
    if ('label' in selection) return { label: this.ofLabel(selection.label) }
    return undefined
  }

  #digest(text: string): string {
    const bytes = hmac(sha256, this.#key, utf8ToBytes(text)).subarray(0, digestBytes)
    return btoa(String.fromCharCode(...bytes))
      .replaceAll('+', '-')
      .replaceAll('/', '_')
      .replaceAll('=', '')
  }
}

/** Where the next space or question mark is; else the end. */
function nextEnd(key: string, from: number): number {
  for (let i = from; i < key.length; i++) if (key[i] === ' ' || key[i] === '?') return i
  return key.length
}
