import { expect } from 'chai'
import type { Claim, Claimed, Claiming, Claims } from '../core/ports/claims.js'
import type { Store } from '../core/ports/store.js'
import { sampleEntry } from './entry-contract.js'

const of = { provider: 'ebbline', endpoint: 'tides' }
const base = 'GET https://tides.ebbline.example/v2/tides ebbline.tides'

async function taken(claims: Claims, key: string, more: Partial<Claiming> = {}): Promise<Claim> {
  const claimed = await claims.take({ key, ...of, storedAt: undefined, over: false, ...more })
  expect(claimed.result, key).to.equal('taken')
  return (claimed as Claimed & { result: 'taken' }).claim
}

/** For stores that have claims; a store without them holds to it by that. */
export const claimsContract: readonly [name: string, check: (store: Store) => Promise<void>][] = [
  [
    'gives the claim on a key to one at a time, and tells the others how it ended',
    async ({ entries: { claims } }) => {
      if (!claims) return
      const asks = { key: base, ...of, storedAt: undefined, over: false }
      for (const how of ['over', 'not-stored', 'for-one'] as const) {
        const claim = await taken(claims, base)
        expect(await claims.take(asks)).to.eql({ result: 'held', claim })
        expect(await claims.look(claim)).to.equal(undefined)
        const other = await taken(claims, `${base} other`)
        await claims.end(claim, how)
        await claims.end(claim, 'for-one') // the first end counts
        expect(await claims.look(claim)).to.equal(how)
        expect(await claims.look(other), 'of another key').to.equal(undefined)
        await claims.end(other, 'over')
      }
      const late = await taken(claims, base)
      const next = await taken(claims, base, { over: true })
      expect(next.token).to.not.equal(late.token)
      await claims.end(late, 'not-stored')
      expect(await claims.look(late), 'taken over').to.equal('over')
      expect(await claims.look(next)).to.equal(undefined)
      await claims.end(next, 'over')
    },
  ],
  [
    'stores by the claim that holds, once, and by none that was taken over or dropped; without one as ever',
    async ({ entries }) => {
      const { claims } = entries
      if (!claims) return
      const body = (of: number) => ({ body: new Uint8Array([of]) })
      const stored = async (key = base) => (await entries.get(key))?.body[0]
      const slow = await taken(claims, base)
      const quick = await taken(claims, base, { over: true })
      expect(await entries.put(sampleEntry(base, body(2)), 0, quick)).to.equal(undefined)
      expect(await claims.look(quick), 'storing ends it').to.equal('over')
      for (const claim of [slow, quick]) expect(await entries.put(sampleEntry(base, body(1)), 0, claim)).to.eql({ notKept: 'out-of-date' })
      expect(await stored()).to.equal(2)
      const seen = sampleEntry(base).storedAt
      expect(await claims.take({ key: base, ...of, storedAt: seen - 1, over: false }), 'something else is stored').to.eql({
        result: 'changed',
      })
      const refreshing = await taken(claims, base, { storedAt: seen })
      await entries.put(sampleEntry(base, body(3)), 0)
      expect(await stored(), 'a write without a claim').to.equal(3)
      await claims.end(refreshing, 'over')
      const url = 'https://tides.ebbline.example/v2/tides?day=1'
      for (const [key, selection] of [
        [base, { key: base }],
        [`${base} vary:a`, { under: base }],
        [`GET ${url} ebbline.tides`, of],
        [`GET ${url}2 ebbline.tides`, { provider: 'ebbline' }],
        [`GET ${url}3 ebbline.tides`, { all: true }],
      ] as const) {
        const claim = await taken(claims, key, { over: true })
        const [near, far] = [
          await taken(claims, `${base}2`, { over: true }),
          await claims.take({ key: 'x', provider: 'brinefare', endpoint: 'tides', storedAt: undefined, over: true }),
        ]
        await claims.drop(selection)
        expect(await entries.put(sampleEntry(key, body(4)), 0, claim), JSON.stringify(selection)).to.eql({ notKept: 'out-of-date' })
        const isWide = !('key' in selection || 'under' in selection)
        expect(await claims.look(near), 'of a key that begins alike').to.equal(isWide ? 'over' : undefined)
        expect(await claims.look((far as { claim: Claim }).claim), 'of another provider').to.equal('all' in selection ? 'over' : undefined)
      }
    },
  ],
  [
    'drops the claims on what may have a label, and on what has the path of a URL with whatever query',
    async ({ entries: { claims } }) => {
      if (!claims) return
      const url = 'GET https://tides.ebbline.example/v2/tides'
      const labels = [['day 1'], ['day 1', 'all'], ['day 12'], [], undefined, null]
      const takeAll = () =>
        Promise.all(labels.map((its, i) => taken(claims, `${url}${i === 4 ? '' : `?${i}`} ebbline.tides`, { over: true, labels: its })))
      for (const [selection, expected] of [
        [{ label: 'day 1' }, [0, 1, 5]],
        [{ label: 'all' }, [1, 5]],
        [{ path: url }, [0, 1, 2, 3, 5]],
      ] as const) {
        const all = await takeAll()
        await claims.drop(selection)
        const over = await Promise.all(all.map(async (claim, i) => ((await claims.look(claim)) === 'over' ? [i] : [])))
        expect(over.flat(), JSON.stringify(selection)).to.eql(expected)
        for (const claim of all) await claims.end(claim, 'over')
      }
    },
  ],
  [
    'shows an answer that arrives to those who watch, piece by piece, and keeps nothing where nobody does',
    async ({ entries: { claims } }) => {
      if (!claims?.show || !claims.watch) return
      const [claim, other] = [await taken(claims, base, { over: true }), await taken(claims, `${base} other`, { over: true })]
      const piece = (of: number) => new Uint8Array([of, 0, 13, 10, 255])
      expect(await claims.show(claim, 0, [piece(0)]), 'nobody watches').to.equal(false)
      expect(await claims.watch(claim, 0)).to.equal(undefined)
      expect(await claims.show(other, 0, [piece(9)]), 'the other one').to.equal(false)
      for (const [from, to] of [
        [0, 1],
        [1, 1],
        [1, 4],
        [4, 150],
      ] as const)
        expect(
          await claims.show(
            claim,
            from,
            Array.from({ length: to - from }, (_, i) => piece(from + i)),
          ),
        ).to.equal(true)
      const seen: number[] = []
      for (let shown = await claims.watch(claim, 0); shown && shown.pieces.length > 0; shown = await claims.watch(claim, seen.length)) {
        expect(shown.isAlive).to.equal(true)
        for (const one of shown.pieces) expect([...one]).to.eql([...piece(seen.push(one[0] as number) - 1)])
      }
      expect(seen).to.eql(Array.from({ length: 150 }, (_, i) => i))
      await claims.end(claim, 'over')
      expect(await claims.show(claim, 150, [piece(150)]), 'it need not hold').to.equal(true)
      expect((await claims.watch(claim, 150))?.pieces.length).to.equal(1)
      await claims.end(other, 'over')
    },
  ],
  [
    'stores an answer elsewhere than under the key that was asked for, by the claim on that',
    async ({ entries }) => {
      const { claims } = entries
      if (!claims) return
      const elsewhere = 'GET https://tides.ebbline.example/v2/other?q=7 ebbline.tides'
      for (const key of [`${base} vary:b`, elsewhere]) {
        const claim = await taken(claims, base, { over: true })
        expect(await entries.put(sampleEntry(key), 0, claim)).to.equal(undefined)
        expect(await claims.look(claim)).to.equal('over')
        expect(await entries.put(sampleEntry(key), 0, claim)).to.eql({ notKept: 'out-of-date' })
      }
    },
  ],
]
