import type { Maybe } from '../../core/ports/maybe.js'

/** Content codings that bodies can be stored in: gzip (RFC 1952), deflate (zlib, RFC 1950), br (Brotli, RFC 7932). */
export const codings = ['gzip', 'deflate', 'br'] as const
export type Coding = (typeof codings)[number]

/** Larger bodies are coded beside the event loop, where that is possible. */
const atOnceBytes = 32 * 1024

type Zlib = typeof import('node:zlib')

/** Node's own; undefined in a browser. */
const zlib = (globalThis as { process?: { getBuiltinModule?(name: string): unknown } }).process?.getBuiltinModule?.('node:zlib') as
  | Zlib
  | undefined

export function isKnownHere(coding: Coding): boolean {
  return zlib !== undefined || coding !== 'br'
}

type Done = (error: Error | null, bytes: Uint8Array) => void
type Later = (bytes: Uint8Array, options: object, done: Done) => void
type Now = (bytes: Uint8Array, options: object) => Uint8Array
type Ways = Readonly<Record<Coding, readonly [Later, Now]>>

/** The bytes in a coding. */
export function encoded(coding: Coding, bytes: Uint8Array): Maybe<Uint8Array> {
  if (!zlib) return piped(bytes, new CompressionStream(coding as 'gzip'))
  const options = coding === 'br' ? brotliOptions(zlib, bytes) : {}
  const { gzip, gzipSync, deflate, deflateSync, brotliCompress, brotliCompressSync } = zlib
  const ways: Ways = { gzip: [gzip, gzipSync], deflate: [deflate, deflateSync], br: [brotliCompress, brotliCompressSync] }
  return coded(ways[coding], bytes, options, bytes.byteLength)
}

/** The bytes that a coding holds, which are so many. Throws, or rejects, where they are not. */
export function decoded(coding: Coding, bytes: Uint8Array, length: number): Maybe<Uint8Array> {
  const checked = (done: Uint8Array) => {
    if (done.byteLength !== length) throw new RangeError(`a body is ${done.byteLength} bytes, not ${length}`)
    return done
  }
  if (!zlib) return piped(bytes, new DecompressionStream(coding as 'gzip'), length).then(checked)
  const { gunzip, gunzipSync, inflate, inflateSync, brotliDecompress, brotliDecompressSync } = zlib
  const ways: Ways = { gzip: [gunzip, gunzipSync], deflate: [inflate, inflateSync], br: [brotliDecompress, brotliDecompressSync] }
  const done = coded(ways[coding], bytes, { maxOutputLength: Math.max(1, length) }, length)
  return done instanceof Promise ? done.then(checked) : checked(done)
}

function coded([later, now]: readonly [Later, Now], bytes: Uint8Array, options: object, length: number): Maybe<Uint8Array> {
  if (length <= atOnceBytes) return now(bytes, options)
  return new Promise((resolve, reject) => later(bytes, options, (error, done) => (error ? reject(error) : resolve(done))))
}

/** Brotli's usual quality is for files that are compressed once. */
const brotliQuality = 5

function brotliOptions({ constants }: Zlib, bytes: Uint8Array): import('node:zlib').BrotliOptions {
  return { params: { [constants.BROTLI_PARAM_QUALITY]: brotliQuality, [constants.BROTLI_PARAM_SIZE_HINT]: bytes.byteLength } }
}

/** What comes out of a stream of the Compression Streams standard, at most so many bytes. */
async function piped(
  bytes: Uint8Array,
  through: CompressionStream | DecompressionStream,
  most = Number.POSITIVE_INFINITY,
): Promise<Uint8Array> {
  const writer = through.writable.getWriter()
  writer.write(bytes as Uint8Array<ArrayBuffer>).catch(() => {}) // said by the reader
  writer.close().catch(() => {})
  const parts: Uint8Array[] = []
  let length = 0
  const reader = through.readable.getReader()
  for (;;) {
    const { done, value } = await reader.read()
    if (done) break
    parts.push(value)
    length += value.byteLength
    if (length > most) throw new RangeError(`a body is more than ${most} bytes`)
  }
  const whole = new Uint8Array(length)
  let at = 0
  for (const part of parts) {
    whole.set(part, at)
    at += part.byteLength
  }
  return whole
}
