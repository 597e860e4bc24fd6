import { expect } from 'chai'
import type { Store } from '../core/ports/store.js'

export const recordsContract: readonly [name: string, check: (store: Store) => Promise<void>][] = [
  [
    'changes shared records one after another, and forgets them when they run out',
    async ({ records }) => {
      const seen: (string | undefined)[] = []
      const change = (value: string, keepUntil: number, now = 0) => {
        let before: string | undefined
        const done = records.update('lease a', now, (kept) => {
          before = kept // it may be called again
          return kept === undefined ? { value, keepUntil } : undefined
        })
        return Promise.resolve(done).then(() => void seen.push(before))
      }
      await change('one', 10)
      await change('two', 10, 9)
      await change('three', 30, 10)
      expect(seen).to.eql([undefined, 'one', undefined])
      await records.update('lease b', 0, () => ({ value: 'b', keepUntil: 50 }))
      await records.update('other', 0, () => ({ value: 'c', keepUntil: 50 }))
      expect([await records.read('lease b', 49), await records.read('lease b', 50), await records.read('lease', 0)]).to.eql([
        'b',
        undefined,
        undefined,
      ])
      expect([...(await records.records('lease ', 20))].sort()).to.eql([
        ['lease a', 'three'],
        ['lease b', 'b'],
      ])
      await records.sweep(30)
      expect([...(await records.records('', 0)).keys()].sort()).to.eql(['lease b', 'other'])
    },
  ],
  [
    'loses no change of many that are made at once',
    async ({ records }) => {
      const add = () => records.update('count', 0, (value) => ({ value: String(Number(value ?? 0) + 1), keepUntil: 10 }))
      await Promise.all(Array.from({ length: 50 }, add))
      expect(await records.read('count', 0)).to.equal('50')
    },
  ],
  [
    'leaves a record as it was where the change fails',
    async ({ records }) => {
      await records.update('a', 0, () => ({ value: 'kept', keepUntil: 10 }))
      const failing = async () =>
        records.update('a', 0, () => {
          throw new Error('no')
        })
      expect(await failing().then(String, (error: Error) => error.message)).to.equal('no')
      await records.update('a', 0, () => undefined)
      expect((await records.records('a', 0)).get('a')).to.equal('kept')
    },
  ],
]
