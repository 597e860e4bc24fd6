import { randomBytes } from 'node:crypto'
import { brotliCompressSync, brotliDecompressSync, constants, gunzipSync, gzipSync } from 'node:zlib'
import { memoryStore } from 'stashen'
import { type PackedStoreOptions, packedStore } from 'stashen/packed'
import { sampleEntry } from '../src/testing/entry-contract.js'
import { compare, type Ratio } from './compare.js'
import type { Figure } from './figure.js'

/** So many in turn that none is at hand as it was read last. */
const keys = Array.from({ length: 2_000 }, (_, i) => `GET https://tides.ebbline.example/v2/stations/${i}/tides?day=2026-09-14`)

/** A day of tides as providers send it, about 10 KB of JSON. */
const tides = new TextEncoder().encode(
  JSON.stringify(
    Array.from({ length: 144 }, (_, i) => ({
      at: new Date(Date.UTC(2026, 8, 14, 0, 10 * i)).toISOString(),
      height: Math.round(240 + 180 * Math.sin(i / 23)) / 100,
      kind: i % 36 === 0 ? 'high' : 'rising',
    })),
  ),
)

const secret = randomBytes(32)
const encrypt = { keys: [{ id: 'bench', secret }] }

/** What compressing and encrypting gain, and cost beside what the bare work on the same bytes does. */
export async function packingRows(): Promise<(Ratio | Figure)[]> {
  const rows: (Ratio | Figure)[] = []
  const key = await crypto.subtle.importKey('raw', secret, 'AES-GCM', false, ['encrypt', 'decrypt'])
  const iv = randomBytes(12)
  const sealed = await crypto.subtle.encrypt({ name: 'AES-GCM', iv }, key, tides)
  const [gzip, br] = [gzipSync(tides), brotliCompressSync(tides)]
  const quality = { params: { [constants.BROTLI_PARAM_QUALITY]: 5 } }
  const ways: [name: string, options: Omit<PackedStoreOptions, 'store'>, read: () => unknown, put: () => unknown][] = [
    ['gzip', { compress: true }, () => gunzipSync(gzip), () => gzipSync(tides)],
    ['br', { compress: { coding: 'br' } }, () => brotliDecompressSync(br), () => brotliCompressSync(tides, quality)],
    [
      'AES-GCM',
      { encrypt },
      () => crypto.subtle.decrypt({ name: 'AES-GCM', iv }, key, sealed),
      () => crypto.subtle.encrypt({ name: 'AES-GCM', iv }, key, tides),
    ],
  ]
  for (const [name, options, read, put] of ways) {
    const packed = packedStore({ store: memoryStore({ maxBytes: 1e9 }), ...options })
    await packed.open({ now: 0, warn() {} })
    const store = (one: string) => packed.entries.put(sampleEntry(one, { body: tides, keepUntil: 1e15 }), 0)
    for (const one of keys) await store(one)
    const { bytes } = await packed.entries.size()
    let turn = 0
    const next = () => keys[turn++ % keys.length] as string
    const kb = `a ${Math.round(tides.byteLength / 1_000)} KB answer`
    rows.push(
      {
        name: `${name}: room of ${kb}`,
        value: bytes / keys.length,
        limit: options.compress ? tides.byteLength / 4 : tides.byteLength + 1_500,
        unit: 'bytes',
      },
      await compare({
        name: `${name}: reading ${kb}, against the bare work`,
        ours: () => packed.entries.get(next()),
        baseline: read,
        limit: 2,
      }),
      await compare({
        name: `${name}: storing ${kb}, against the bare work`,
        ours: () => store(next()),
        baseline: put,
        limit: name === 'AES-GCM' ? 6 : 2,
      }),
    )
  }
  return rows
}
