import { expect } from 'chai'
import type { Entry } from '../core/ports/entry-store.js'
import type { Maybe } from '../core/ports/maybe.js'
import type { Store } from '../core/ports/store.js'
import { sampleEntry, sampleTimes } from './entry-contract.js'

/** As of `storeContract`; `many` is a multiple of 7. */
export const manyEntriesContract = (
  digestsKeys: boolean,
  many: number,
): readonly [name: string, check: (store: Store) => Promise<void>][] => [
  [
    'does what takes long in pieces: all of it in the end, and nothing twice',
    async ({ entries }) => {
      const [most, sevenths, dropping] = [40, many / 7, Math.floor((many * 2) / 3)]
      const putAll = async (all: readonly Entry[]) => {
        for (let i = 0; i < all.length; i += 50) await Promise.all(all.slice(i, i + 50).map((entry) => entries.put(entry, 0)))
      }
      const tides = { provider: 'ebbline', endpoint: 'tides' }
      const late = { freshUntil: 9_000, keepUntil: 9_000 }
      const others = Array.from({ length: 30 }, (_, i) => sampleEntry(`other ${i}`, { ...late, endpoint: 'station' }))
      const latest = `GET https://x/${(many - 1) % 7} caller:${many - 1}`
      const numbers = Array.from({ length: many }, (_, i) => i)
      await putAll([
        ...others,
        ...numbers.map((i) => sampleEntry(`GET https://x/${i % 7} caller:${i}`, { ...late, labels: [`seventh ${i % 7}`] })),
      ])
      await entries.put(sampleEntry(latest, { ...late, labels: [`seventh ${(many - 1) % 7}`] }), 0)
      for (const [selection, meant] of [
        [tides, many],
        [{ provider: 'ebbline' }, many + 30],
        [{ under: 'GET https://x/3' }, sevenths],
        [{ label: 'seventh 3' }, sevenths],
        [{ all: true }, many + 30],
      ] as const) {
        let [invalidated, next] = [0, undefined as string | undefined]
        do {
          const piece = await entries.invalidate(selection, 1_500, next)
          invalidated += piece.entries
          next = piece.next
        } while (next !== undefined)
        expect(invalidated, JSON.stringify(selection)).to.equal(meant)
      }
      expect((await entries.get('other 0'))?.invalidated).to.equal(true)
      const dropped = async (piece: () => Maybe<{ readonly entries?: number; readonly more: boolean }>) => {
        let [count, more] = [0, true]
        while (more) {
          const done = await piece()
          count += done.entries ?? 0
          more = done.more
        }
        return count
      }
      await dropped(() => entries.trim(tides, most, 1_600))
      expect((await entries.size()).entries).to.equal(most + 30)
      expect(await entries.get(latest), 'the latest').to.not.equal(undefined)
      await putAll(numbers.map((i) => sampleEntry(`GET https://x/${i}`, { keepUntil: i < dropping ? 2_000 : 9_000 })))
      expect(await dropped(() => entries.sweep(2_000))).to.equal(dropping)
      expect(await dropped(() => entries.remove(tides))).to.equal(many - dropping + most)
      expect((await entries.size()).entries).to.equal(30)
    },
  ],
  [
    'lists entries in the order of their keys, page by page, without their bodies',
    async ({ entries }) => {
      const keys = ['a', 'a b', 'aa', 'ø', 'z', '\u{1f30a}', '\uff61']
      for (const key of [...keys].reverse()) await entries.put(sampleEntry(key), 0)
      await entries.put(sampleEntry('other', { endpoint: 'station' }), 0)
      const selection = { provider: 'ebbline', endpoint: 'tides' }
      const seen: string[] = []
      let after: string | undefined
      do {
        const page = await entries.list(selection, { after, most: 2 })
        expect(page.entries.length).to.be.within(1, 2)
        for (const one of page.entries) {
          expect(one).to.deep.include({ ...sampleTimes, provider: 'ebbline', endpoint: 'tides', head: '{"status":200}', bytes: 3 })
          expect(one).to.not.have.property('body')
          seen.push(one.key)
        }
        after = page.next
      } while (after !== undefined)
      const inOrder = ['a', 'a b', 'aa', 'z', 'ø', '\uff61', '\u{1f30a}']
      if (digestsKeys) expect(seen).to.have.members(inOrder)
      else expect(seen).to.eql(inOrder)
      expect((await entries.list({ under: 'a' })).entries.map(({ key }) => key)).to.eql(['a', 'a b'])
      expect(await entries.list({ key: 'absent' })).to.eql({ entries: [], next: undefined })
    },
  ],
]
