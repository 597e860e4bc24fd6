import { expect } from 'chai'
import { invalidatedTimes } from '../core/decide/entry-times.js'
import type { Entry } from '../core/ports/entry-store.js'
import type { Store } from '../core/ports/store.js'

export const sampleTimes = {
  storedAt: 1_000,
  bornAt: 900,
  freshUntil: 2_000,
  refreshableUntil: 2_000,
  usableUntil: 3_000,
  keepUntil: 3_000,
}

/** An entry for tests of stores. */
export function sampleEntry(key: string, more: Partial<Entry> = {}): Entry {
  const what = { key, provider: 'ebbline', endpoint: 'tides', head: '{"status":200}', body: new Uint8Array([1, 2, 3]) }
  return { ...what, ...sampleTimes, mustRevalidate: false, invalidated: false, ...more }
}

async function keysOf({ entries }: Store, keys: readonly string[]): Promise<string[]> {
  const found = await Promise.all(keys.map(async (key) => ((await entries.get(key)) ? [key] : [])))
  return found.flat()
}

/** As of `storeContract`. */
export const entryContract: readonly [name: string, check: (store: Store) => Promise<void>][] = [
  [
    'gives back exactly the entry it was given, byte for byte, and nothing for another key',
    async ({ entries }) => {
      const body = Uint8Array.from({ length: 70_000 }, (_, i) => (i * 31) % 256)
      const kept = sampleEntry('GET https://x/ø?a=%00&"quoted" \u{1f30a}', {
        ...{ body, head: '{"fields":[["x","ø"]]}', units: { tokens: 812.5 }, labels: ['tariff 7', 'quote \u{1f30a}'] },
        price: { currency: 'EUR', amount: '0.004' },
        ...{ freshUntil: 2 ** 45, usableUntil: 2 ** 46, mustRevalidate: true },
      })
      await entries.put(kept, 0)
      const found = await entries.get(kept.key)
      expect({ ...found, body: undefined, memo: undefined }).to.eql({ ...kept, body: undefined, memo: undefined })
      expect(new Uint8Array(found?.body ?? [])).to.eql(body)
      expect(await entries.get('get https://x/')).to.equal(undefined)
      const everyByte = Uint8Array.from({ length: 256 }, (_, i) => i)
      await entries.put(sampleEntry('small', { body: everyByte.subarray(0) }), 0)
      expect(new Uint8Array((await entries.get('small'))?.body ?? [])).to.eql(everyByte)
      await entries.put(sampleEntry('empty', { body: new Uint8Array(), head: '' }), 0)
      expect((await entries.get('empty'))?.body.byteLength).to.equal(0)
    },
  ],
  [
    'keeps an entry in place of the one under its key, and sweeps only what is not worth keeping',
    async ({ entries }) => {
      await entries.put(sampleEntry('a', { keepUntil: 3_000 }), 0)
      await entries.put(sampleEntry('a', { keepUntil: 5_000, body: new Uint8Array([9]) }), 0)
      await entries.put(sampleEntry('b', { keepUntil: 4_000 }), 0)
      expect([...((await entries.get('a'))?.body ?? [])]).to.eql([9])
      expect(await entries.sweep(3_999)).to.eql({ entries: 0, more: false })
      expect(await entries.sweep(4_000)).to.eql({ entries: 1, more: false })
      expect(await entries.get('b')).to.equal(undefined)
      expect(await entries.get('a')).to.not.equal(undefined)
    },
  ],
  [
    'gives an entry other times, but not one that came since',
    async ({ entries }) => {
      const later = { storedAt: 1_000, bornAt: 950, freshUntil: 7_000, refreshableUntil: 7_500, usableUntil: 8_000, keepUntil: 9_000 }
      for (const key of ['a', 'b']) await entries.put(sampleEntry(key), 0)
      await entries.updateTimes('a', { ...later, mustRevalidate: true, invalidated: true })
      await entries.updateTimes('b', { ...later, storedAt: 999, mustRevalidate: false, invalidated: false })
      await entries.updateTimes('absent', { ...later, mustRevalidate: false, invalidated: false })
      expect(await entries.get('a')).to.deep.include({ ...later, mustRevalidate: true, invalidated: true, head: '{"status":200}' })
      expect(await entries.get('b')).to.deep.include(sampleTimes)
      expect(await entries.get('absent')).to.equal(undefined)
    },
  ],
  [
    'invalidates the selected entries and no others, and keeps them',
    async ({ entries }) => {
      const all = ['GET https://x/a', 'GET https://x/a caller:1', 'GET https://x/ab', 'GET https://x/a?b', 'GET https://x/a!']
      const selections = [
        [{ under: 'GET https://x/a' }, [0, 1]],
        [{ key: 'GET https://x/a' }, [0]],
        [{ provider: 'ebbline' }, [0, 1, 3, 4]],
        [{ provider: 'ebbline', endpoint: 'station' }, [3]],
        [{ provider: 'absent' }, []],
        [{ all: true }, [0, 1, 2, 3, 4]],
      ] as const
      for (const [selection, expected] of selections) {
        for (const [i, key] of all.entries()) {
          const owner = i === 2 ? { provider: 'skerrylight' } : i === 3 ? { endpoint: 'station' } : {}
          await entries.put(
            sampleEntry(key, { freshUntil: 7_000, refreshableUntil: 7_500, usableUntil: 8_000, keepUntil: 9_000, ...owner }),
            0,
          )
        }
        expect(await entries.invalidate(selection, 1_500)).to.eql({ entries: expected.length, next: undefined })
        const found = await Promise.all(all.map((key) => entries.get(key)))
        for (const [i, entry] of found.entries()) {
          const before = { ...sampleTimes, freshUntil: 7_000, refreshableUntil: 7_500, usableUntil: 8_000, keepUntil: 9_000 }
          const whole = { ...before, mustRevalidate: false, invalidated: false }
          const wanted = (expected as readonly number[]).includes(i) ? invalidatedTimes(whole, 1_500) : whole
          expect(entry, `${JSON.stringify(selection)} ${all[i]}`).to.deep.include(wanted)
        }
      }
    },
  ],
  [
    'finds entries by their labels, as these are now, and by the path of their URL',
    async (store) => {
      const { entries } = store
      const later = { freshUntil: 7_000, keepUntil: 9_000 }
      const labelled: [string, string[] | undefined][] = [
        ['GET https://x/a?1', ['tariff 7', 'all']],
        ['GET https://x/a?2', ['tariff 7', 'all', '']],
        ['GET https://x/a', ['tariff 70', 'all']],
        ['GET https://x/ab?1', undefined],
        ['other.quote["a"]', ['Tariff 7']],
      ]
      const put = async () => {
        for (const [key, labels] of labelled) await entries.put(sampleEntry(key, { ...later, labels }), 0)
      }
      const invalidated = async () => {
        const found = await Promise.all(labelled.map(([key]) => entries.get(key)))
        return found.flatMap((entry, i) => (entry?.invalidated ? [i] : []))
      }
      for (const [selection, expected] of [
        [{ label: 'tariff 7' }, [0, 1]],
        [{ label: 'all' }, [0, 1, 2]],
        [{ label: 'tariff' }, []],
        [{ path: 'GET https://x/a' }, [0, 1]],
        [{ path: 'GET https://x/' }, []],
      ] as const) {
        await put()
        await entries.invalidate(selection, 1_500)
        expect(await invalidated(), JSON.stringify(selection)).to.eql(expected)
        const listed = (await entries.list(selection)).entries
        expect(listed.map(({ key, labels }) => [key, labels])).to.have.deep.members(expected.map((i) => labelled[i]))
      }
      await put()
      await entries.put(sampleEntry('GET https://x/a?1', { ...later, labels: ['all'] }), 0)
      await entries.put(sampleEntry('GET https://x/a?2', later), 0)
      expect((await entries.list({ label: 'tariff 7' })).entries, 'labels that have gone').to.eql([])
      expect((await entries.get('GET https://x/a?1'))?.labels).to.eql(['all'])
      expect((await entries.get('GET https://x/a?2'))?.labels).to.equal(undefined)
      const entry = (await entries.get('GET https://x/a')) as Entry
      await entries.updateTimes(entry.key, { ...entry, freshUntil: 8_000 })
      expect(await entries.remove({ label: 'all' })).to.eql({ entries: 2, more: false })
      expect(await entries.remove({ path: 'GET https://x/a' })).to.eql({ entries: 1, more: false })
      expect(
        await keysOf(
          store,
          labelled.map(([key]) => key),
        ),
      ).to.eql(['GET https://x/ab?1', 'other.quote["a"]'])
      await entries.put(sampleEntry('GET https://x/a?1', { ...later, labels: ['all'] }), 0)
      expect((await entries.get('GET https://x/a?1'))?.invalidated, 'of before it was stored').to.equal(false)
    },
  ],
  [
    'removes the selected entries, and trims them to those used last, saying what was fresh of the others',
    async (store) => {
      const { entries } = store
      const variants = [0, 1, 2, 3, 4].map((i) => `GET http://x/a vary:${i}`)
      for (const [i, key] of variants.entries()) await entries.put(sampleEntry(key, { invalidated: i === 2 }), 0)
      for (let i = 0; i < 5; i++) await entries.put(sampleEntry(`GET http://x/b${i}`, { storedAt: 10 - i }), 0)
      await entries.put(sampleEntry('GET http://x/other', { endpoint: 'other' }), 0)
      await entries.get(variants[0] as string)
      const evicted = [{ provider: 'ebbline', endpoint: 'tides' }]
      expect(await entries.trim({ under: 'GET http://x/a' }, 2, 1_999)).to.eql({
        evicted: evicted.map((one) => ({ ...one, entries: 2 })),
        more: false,
      })
      expect(await keysOf(store, variants)).to.eql([variants[0], variants[4]])
      const none = { evicted: [], more: false }
      expect(await entries.trim({ provider: 'ebbline', endpoint: 'tides' }, 3, 2_000), 'nothing is fresh by then').to.eql(none)
      const left = [variants[0], variants[4], 'GET http://x/b4', 'GET http://x/b3', 'GET http://x/other'] as string[]
      expect(await keysOf(store, left)).to.eql([variants[0], variants[4], 'GET http://x/b4', 'GET http://x/other'])
      expect(await entries.trim({ all: true }, 4, 0)).to.eql(none)
      expect((await entries.size()).entries).to.equal(4)
      expect(await entries.remove({ key: 'GET http://x/other' })).to.eql({ entries: 1, more: false })
      expect(await entries.remove({ key: 'GET http://x/other' })).to.eql({ entries: 0, more: false })
      expect(await entries.remove({ under: 'GET http://x/a' })).to.eql({ entries: 2, more: false })
      expect((await entries.size()).entries).to.equal(1)
    },
  ],
]
