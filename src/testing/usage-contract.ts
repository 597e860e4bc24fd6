import { expect } from 'chai'
import type { Store } from '../core/ports/store.js'
import { sampleEntry } from './entry-contract.js'

export const usageContract: readonly [name: string, check: (store: Store) => Promise<void>][] = [
  [
    'counts how often answers were given since they were stored, where it counts that',
    async ({ entries }) => {
      const { given } = entries
      if (!given) return
      const price = { currency: 'EUR', amount: '0.05' }
      for (const key of ['a', 'b']) await entries.put(sampleEntry(key, { price }), 0)
      const [old, other] = [await entries.get('a'), await entries.get('b')]
      for (const [now, isSaving] of [[1_100, true], [1_300, false], [1_200, true]] as const) if (old) given.call(entries, old, now, isSaving) // biome-ignore format: a row a line
      const usageOf = async (key: string) => (await entries.list({ key })).entries[0]?.usage
      for (const end = Date.now() + 5_000; Date.now() < end && (await usageOf('a')) === undefined; )
        await new Promise((resolve) => setTimeout(resolve, 5))
      expect(await usageOf('a')).to.include({ times: 3, saved: 2 })
      expect((await usageOf('a'))?.lastAt).to.be.within(1_200, 1_300)
      expect(await usageOf('b')).to.equal(undefined)
      expect((await entries.list({ key: 'a' })).entries[0]).to.deep.include({ price })
      expect(Object.keys((await entries.get('a')) ?? {})).to.not.include('usage')
      await entries.updateTimes('a', { ...sampleEntry('a'), freshUntil: 2_500 })
      expect((await usageOf('a'))?.times, 'it is the same answer').to.equal(3)
      await entries.put(sampleEntry('a', { storedAt: 1_500 }), 0)
      if (old) given.call(entries, old, 1_600, true)
      if (other) given.call(entries, other, 1_700, true)
      for (const end = Date.now() + 5_000; Date.now() < end && (await usageOf('b')) === undefined; )
        await new Promise((resolve) => setTimeout(resolve, 5))
      expect(await usageOf('a'), 'of another answer than the one that was given').to.equal(undefined)
      expect(await usageOf('b')).to.eql({ times: 1, saved: 1, lastAt: 1_700 })
    },
  ],
]
