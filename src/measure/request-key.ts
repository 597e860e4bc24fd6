import { createHash, createHmac, type Hash } from 'node:crypto'
import { looksRandom } from '../core/rules/credentials.js'
import { choosesNothing } from '../core/rules/fields-left-out.js'
import { byName, type KeyPart } from '../core/traffic/key-splits.js'
import type { SeenCall } from '../core/traffic/seen-call.js'

/** A digest of all of a request that may choose its answer, and of its parts. Without the salt nobody can tell what went into them. */
export function requestKey(
  salt: string,
  { method, url, fields, body }: { method: string; url: URL; fields: Iterable<readonly [string, string]>; body: string },
): Pick<SeenCall, 'key' | 'base' | 'parts'> {
  const digest = (text: string) => createHmac('sha256', salt).update(text).digest('base64url')
  const parameters = [...url.searchParams].map(([name, value]) => [`?${name}`, value] as const)
  const named = [...fields].map(([name, value]) => [name.toLowerCase(), value] as const)
  const counted = named.filter(([name]) => !choosesNothing(name) || name === 'range')
  const parts = [...byName([...parameters, ...counted])]
    .sort(([a], [b]) => compare(a, b))
    .map(([name, value]): KeyPart => [shownName(name), digest(value).slice(0, 11)])
  const base = digest(`${method} ${url.origin}${url.pathname}\n${body}`).slice(0, 22)
  return { key: digest(JSON.stringify([base, parts])).slice(0, 22), base, parts }
}

/** The name of an operation, as it is written down. */
export function operationName(name: string | undefined): string | undefined {
  return name !== undefined && /^[\w./:-]{1,60}$/.test(name) && !looksRandom(name) ? name : undefined
}

/** Names come from the program: what is no plain name is not written down. */
function shownName(name: string): string {
  return /^\??[\w.[\]-]{1,60}$/.test(name) && !looksRandom(name) ? name : '~'
}

function compare(a: string, b: string): number {
  return a < b ? -1 : a > b ? 1 : 0
}

/** Dates stay, which say that a part is one; so do short codes. */
function isHidden(part: string): boolean {
  return part.length > 20 || /[@:=%]/.test(part) || (part.length > 10 && /\d/.test(part))
}

/** A path whose parts that may be credentials, or name a person, are digests. */
export function pathWithoutSecrets(salt: string, path: string): string {
  return path
    .split('/')
    .map((part) => (isHidden(part) ? `~${createHmac('sha256', salt).update(part).digest('base64url').slice(0, 10)}` : part))
    .join('/')
}

/** Text of a body that is looked at, bytes at the most. */
const mostLookedAt = 64 * 1024

/** Digests a body while it goes by. */
export class BodyDigest {
  readonly #hash: Hash = createHash('sha256')
  readonly #pieces: Uint8Array[] = []
  bytes = 0

  /** All of it; undefined where that is long. */
  whole(): string | undefined {
    return this.bytes <= mostLookedAt ? Buffer.concat(this.#pieces).toString() : undefined
  }

  add(chunk: unknown): void {
    const bytes = typeof chunk === 'string' ? Buffer.from(chunk) : chunk instanceof Uint8Array ? chunk : undefined
    if (!bytes) return
    this.bytes += bytes.byteLength
    this.#hash.update(bytes)
    if (this.bytes <= mostLookedAt) this.#pieces.push(bytes)
    else this.#pieces.length = 0
  }

  text(): string {
    return this.bytes === 0 ? '' : this.#hash.digest('base64url').slice(0, 22)
  }
}
