import { UsageError } from '../../core/errors/setup-errors.js'
import { shown } from '../../core/errors/shown.js'
import type { Store } from '../../core/ports/store.js'
import { type Coding, codings, isKnownHere } from './coding.js'

/** Which bodies are compressed, and how. */
export interface CompressOptions {
  /** A content coding (RFC 9110 section 8.4.1, RFC 7932). `br` only in Node. Default `gzip`. */
  readonly coding?: Coding
  /** Bodies of more bytes than this. Default 1,024. */
  readonly above?: number
}

/** A key that answers are encrypted with. */
export interface EncryptionKey {
  /** Its name, which stands beside what it encrypted: letters, digits, `-`, `_` and `.`, e.g. `2026-11`. */
  readonly id: string
  /** 32 random bytes, or these in Base64 (RFC 4648 section 4). */
  readonly secret: Uint8Array | string
}

export interface PackedStoreOptions {
  /** Where everything is kept. */
  readonly store: Store
  /** Compresses bodies; `true`: by the defaults. Default: not. What is compressed can be read whatever this says. */
  readonly compress?: boolean | CompressOptions
  /**
   * Encrypts answers (AES-GCM, NIST SP 800-38D, with a 256-bit key): the first key encrypts, all decrypt, so that a new one can be put before the old one. Keys and labels of
   * entries are digested (HMAC-SHA-256, RFC 2104); providers, endpoints and times stay readable, and so do records and the ledger. Default: not.
   */
  readonly encrypt?: { readonly keys: readonly EncryptionKey[] }
}

/** A key, checked. */
export interface Secret {
  readonly id: string
  readonly bytes: Uint8Array
}

/** What is done to entries, checked. */
export interface Packing {
  readonly coding: Coding | undefined
  readonly above: number
  readonly secrets: readonly Secret[]
}

const usualAbove = 1_024
const secretBytes = 32

/** Throws code `USAGE` where options say what nothing can be; no secret stands in its message. */
export function checkedPacking(options: PackedStoreOptions): Packing {
  const { store, compress = false, encrypt } = options ?? {}
  if (typeof store?.open !== 'function')
    throw new UsageError(`"store" of packedStore is ${shown(store)}: give a store, such as redisStore()`)
  if (typeof compress !== 'boolean' && (typeof compress !== 'object' || compress === null))
    throw new UsageError(`"compress" of packedStore is ${shown(compress)}: give true, false or { coding, above }`)
  const { coding = 'gzip', above = usualAbove } = typeof compress === 'object' ? compress : {}
  if (!codings.includes(coding)) throw new UsageError(`"coding" of packedStore is ${shown(coding)}: give ${codings.join(', ')}`)
  if (!isKnownHere(coding)) throw new UsageError(`"coding" of packedStore is "${coding}", which this browser does not know: give gzip`)
  if (!Number.isSafeInteger(above) || above < 0)
    throw new UsageError(`"above" of packedStore is ${shown(above)}: give a whole number of bytes`)
  return { coding: compress === false ? undefined : coding, above, secrets: encrypt === undefined ? [] : secretsOf(encrypt) }
}

function secretsOf(encrypt: NonNullable<PackedStoreOptions['encrypt']>): Secret[] {
  const { keys } = encrypt ?? {}
  if (!Array.isArray(keys) || keys.length === 0)
    throw new UsageError('"encrypt.keys" of packedStore has no key: give a list of { id, secret }')
  const secrets = keys.map((key: EncryptionKey | null, i): Secret => {
    const { id, secret } = key ?? {}
    if (typeof id !== 'string' || !/^[\w.-]{1,64}$/.test(id))
      throw new UsageError(`"encrypt.keys[${i}].id" of packedStore is ${shown(id)}: give up to 64 letters, digits, "-", "_" and "."`)
    const bytes = bytesOf(secret)
    if (bytes?.byteLength !== secretBytes)
      throw new UsageError(`"encrypt.keys[${i}].secret" of packedStore is not ${secretBytes} bytes: give these, or their Base64`)
    return { id, bytes: new Uint8Array(bytes) }
  })
  const twice = secrets.find(({ id }, i) => secrets.findIndex((other) => other.id === id) !== i)
  if (twice) throw new UsageError(`"encrypt.keys" of packedStore has "${twice.id}" twice: each key needs an id of its own`)
  return secrets
}

function bytesOf(secret: unknown): Uint8Array | undefined {
  if (secret instanceof Uint8Array) return secret
  if (typeof secret !== 'string' || !/^[A-Za-z0-9+/]+={0,2}$/.test(secret)) return undefined
  try {
    return Uint8Array.from(atob(secret), (character) => character.charCodeAt(0))
  } catch {
    return undefined
  }
}
