import { joinedBytes } from '../../core/bytes.js'
import type { Money } from '../../core/money/money.js'
import type { Units } from '../../core/money/units.js'
import type { Entry, EntrySummary } from '../../core/ports/entry-store.js'
import { derived, type KeyDigests } from './key-digests.js'
import type { Secret } from './options.js'
import { packedHeads } from './packed-head.js'

/** Bytes of the initialisation vector, random for each text, as NIST SP 800-38D section 8.2.2 allows. */
const vectorBytes = 12

const sealedHead = /^sealed ([\w.-]+) ([A-Za-z0-9+/=]+)$/

/** What of an entry stands encrypted in its head, for lists, and, with a line end after it, before its body, so that reading an entry is one decryption. */
interface SealedFacts {
  readonly key: string
  readonly head: string
  readonly bytes: number
  readonly units?: Units | undefined
  readonly price?: Money | undefined
  readonly labels?: readonly string[] | undefined
}

const encoder = new TextEncoder()
const decoder = new TextDecoder()
const lineEnd = 10

/** Encrypts and decrypts entries under one secret. What is encrypted holds only in its place: an entry's head or body under its key, of when it was stored. */
export class Sealing {
  readonly digests: KeyDigests
  readonly #key: ReturnType<typeof crypto.subtle.importKey>

  constructor(secret: Secret, digests: KeyDigests) {
    this.digests = digests
    const bytes = derived(secret, 'answers') as Uint8Array<ArrayBuffer>
    this.#key = crypto.subtle.importKey('raw', bytes, 'AES-GCM', false, ['encrypt', 'decrypt'])
    this.#key.catch(() => {}) // said when it is used
  }

  /** `bytes`: how long the body is for those who read it. */
  async sealed(entry: Entry, bytes: number): Promise<Entry> {
    const { key, head, body, units, price, labels, memo: _, ...rest } = entry
    const place = { ...rest, key: this.digests.of(key) }
    const facts: SealedFacts = { key, head, bytes, units, price, labels }
    const factBytes = encoder.encode(JSON.stringify(facts))
    const [sealedFacts, sealedBody] = await Promise.all([
      this.#encrypted(factBytes, boundTo(place, 'head')),
      this.#encrypted(joinedBytes([factBytes, Uint8Array.of(lineEnd), body]), boundTo(place, 'body')),
    ])
    return {
      ...place,
      head: `${packedHeads.sealed}${this.digests.id} ${base64(sealedFacts)}`,
      body: sealedBody,
      labels: labels?.map((label) => this.digests.ofLabel(label)),
    }
  }

  /** The entry that was sealed. Rejects where it is not what was sealed. */
  async opened(entry: Entry): Promise<Entry> {
    const bytes = await this.#decrypted(entry.body, boundTo(entry, 'body'))
    const end = bytes.indexOf(lineEnd)
    const { bytes: _, ...facts } = JSON.parse(decoder.decode(bytes.subarray(0, end))) as SealedFacts
    return { ...entry, ...facts, units: facts.units, price: facts.price, labels: facts.labels, body: bytes.subarray(end + 1) }
  }

  async openedSummary(entry: EntrySummary): Promise<EntrySummary> {
    const text = sealedHead.exec(entry.head)?.[2] ?? ''
    const bytes = await this.#decrypted(
      Uint8Array.from(atob(text), (one) => one.charCodeAt(0)),
      boundTo(entry, 'head'),
    )
    const facts = JSON.parse(decoder.decode(bytes)) as SealedFacts
    return { ...entry, ...facts, units: facts.units, price: facts.price, labels: facts.labels }
  }

  /** A piece of an answer that is shown while it arrives, which holds only in its place. */
  sealedPiece(piece: Uint8Array, token: string, number: number): Promise<Uint8Array> {
    return this.#encrypted(piece, encoder.encode(JSON.stringify(['shown', token, number])) as Uint8Array<ArrayBuffer>)
  }

  openedPiece(piece: Uint8Array, token: string, number: number): Promise<Uint8Array> {
    return this.#decrypted(piece, encoder.encode(JSON.stringify(['shown', token, number])) as Uint8Array<ArrayBuffer>)
  }

  async #encrypted(bytes: Uint8Array, additionalData: Uint8Array<ArrayBuffer>): Promise<Uint8Array> {
    const iv = crypto.getRandomValues(new Uint8Array(vectorBytes))
    const data = bytes as Uint8Array<ArrayBuffer>
    const encrypted = await crypto.subtle.encrypt({ name: 'AES-GCM', iv, additionalData }, await this.#key, data)
    return joinedBytes([iv, new Uint8Array(encrypted)])
  }

  async #decrypted(bytes: Uint8Array, additionalData: Uint8Array<ArrayBuffer>): Promise<Uint8Array> {
    const whole = bytes as Uint8Array<ArrayBuffer>
    const iv = whole.subarray(0, vectorBytes)
    return new Uint8Array(
      await crypto.subtle.decrypt({ name: 'AES-GCM', iv, additionalData }, await this.#key, whole.subarray(vectorBytes)),
    )
  }
}

/** By which secret a head was sealed; undefined where by none. */
export function sealedBy(head: string): string | undefined {
  return head.startsWith(packedHeads.sealed) ? sealedHead.exec(head)?.[1] : undefined
}

function boundTo(
  { key, provider, endpoint, storedAt }: Pick<Entry, 'key' | 'provider' | 'endpoint' | 'storedAt'>,
  part: 'head' | 'body',
): Uint8Array<ArrayBuffer> {
  return encoder.encode(JSON.stringify([part, key, provider, endpoint, storedAt]))
}

function base64(bytes: Uint8Array): string {
  let text = ''
  for (const byte of bytes) text += String.fromCharCode(byte)
  return btoa(text)
}
