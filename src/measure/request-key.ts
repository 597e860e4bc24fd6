import { createHash, createHmac, type Hash } from 'node:crypto'
import { compileCredentials, looksSecret } from '../core/rules/credentials.js'

/** Fields that may choose the answer besides those that name the caller. */
const choosing = /^(accept|accept-language|content-type|range|prefer)$/i

const credentials = compileCredentials({})

/** A digest of all of a request that may choose its answer. Without the salt nobody can tell what went into it. */
export function requestKey(
  salt: string,
  { method, url, fields, body }: { method: string; url: URL; fields: Iterable<readonly [string, string]>; body: string },
): string {
  const hmac = createHmac('sha256', salt).update(`${method} ${url.origin}${url.pathname}\n`)
  for (const [name, value] of [...url.searchParams].sort(([a, x], [b, y]) => (a === b ? compare(x, y) : compare(a, b))))
    hmac.update(`${JSON.stringify([name, value])}\n`)
  for (const [name, value] of [...fields].map(([name, value]) => [name.toLowerCase(), value] as const).sort(([a], [b]) => compare(a, b)))
    if (choosing.test(name) || credentials.isField(name) || looksSecret(name)) hmac.update(`${JSON.stringify([name, value])}\n`)
  return hmac.update(body).digest('base64url').slice(0, 22)
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

/** Digests a body while it goes by. */
export class BodyDigest {
  readonly #hash: Hash = createHash('sha256')
  bytes = 0

  add(chunk: unknown): void {
    const bytes = typeof chunk === 'string' ? Buffer.from(chunk) : chunk instanceof Uint8Array ? chunk : undefined
    if (!bytes) return
    this.bytes += bytes.byteLength
    this.#hash.update(bytes)
  }

  text(): string {
    return this.bytes === 0 ? '' : this.#hash.digest('base64url').slice(0, 22)
  }
}
