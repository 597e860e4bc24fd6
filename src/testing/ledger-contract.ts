import { expect } from 'chai'
import type { BillingFacts, LedgerRow } from '../core/ledger/ledger-row.js'
import { sumTallies } from '../core/ledger/sum-tallies.js'
import type { TallyData } from '../core/ledger/tally-data.js'
import type { Store } from '../core/ports/store.js'

const [minute, hour] = [60_000, 3_600_000]
const always = { since: Number.NEGATIVE_INFINITY, until: Number.POSITIVE_INFINITY }

function sampleRow(tally: TallyData, more: Partial<LedgerRow> = {}): LedgerRow {
  const bucket = { bucket: minute, grain: 'minute', lengthMs: minute } as const
  return { ...bucket, mode: 'reuse', provider: 'ebbline', endpoint: 'tides', ...more, tally }
}

const facts = (since: number, perCall: string, endpoint: string | null = null): BillingFacts => ({
  ...{ provider: 'ebbline', endpoint, since },
  plan: { currency: 'EUR', perCall, notBilled: [] },
})

export const ledgerContract: readonly [name: string, check: (store: Store) => Promise<void>][] = [
  [
    'adds tallies to the rows of the same place and reads them by time',
    async ({ ledger }) => {
      const busy: TallyData = { hit: 2, changed: 1, units: { made: { tokens: 1.5 }, asked: {} }, ms: '2,1,+3,4' }
      await ledger.add([sampleRow(busy), sampleRow({ hit: 1 }, { endpoint: 'station' })])
      await ledger.add([
        sampleRow({ hit: 3, stale: 4 }),
        sampleRow({ hit: 7 }, { mode: 'measure' }),
        sampleRow({ hit: 9 }, { bucket: 2 * minute }),
      ])
      const read = await ledger.read({ since: minute, until: 2 * minute })
      expect(read.map(({ mode, endpoint, tally }) => [mode, endpoint, tally])).to.have.deep.members([
        ['reuse', 'tides', sumTallies(busy, { hit: 3, stale: 4 })],
        ['reuse', 'station', { hit: 1 }],
        ['measure', 'tides', { hit: 7 }],
      ])
      expect(await ledger.read({ since: 0, until: minute })).to.eql([])
      expect((await ledger.read(always)).length).to.equal(4)
      expect((await ledger.read({ ...always, most: 1 }))[0]).to.include({ bucket: minute })
      const tides = { mode: 'reuse', provider: 'ebbline', endpoint: 'tides' } as const
      expect(await ledger.accounts()).to.have.deep.members([tides, { ...tides, endpoint: 'station' }, { ...tides, mode: 'measure' }])
      const hits = async (most?: number) =>
        (await ledger.read({ ...always, of: tides, ...(most && { grain: 'minute', most }) })).map(({ tally }) => tally.hit)
      expect(await hits()).to.have.members([5, 9])
      expect(await hits(1)).to.eql([5])
      expect(await ledger.read({ ...always, of: { ...tides, provider: 'absent' } })).to.eql([])
    },
  ],
  [
    'adds exactly however many add at once',
    async ({ ledger }) => {
      await Promise.all(
        Array.from({ length: 20 }, (_, i) => ledger.add([sampleRow({ hit: 1 }), sampleRow({ hit: i }, { endpoint: 'station' })])),
      )
      const counts = (await ledger.read(always)).map(({ endpoint, tally }) => [endpoint, tally.hit])
      expect(counts).to.have.deep.members([
        ['tides', 20],
        ['station', 190],
      ])
    },
  ],
  [
    'adds a batch once, however often it comes, if it answers with promises',
    async ({ ledger }) => {
      const batch = (writer: string, number: number) => ledger.add([sampleRow({ hit: 1 })], { writer, number })
      const first = batch('one', 1)
      await first
      const again = batch('one', 1)
      await Promise.all([again, batch('one', 1), batch('two', 1)])
      await batch('one', 2)
      await batch('one', 1)
      const hits = (await ledger.read(always)).map(({ tally }) => tally.hit)
      expect(hits[0], 'of three batches').to.be.oneOf(first instanceof Promise ? [3] : [3, 6])
    },
  ],
  [
    'replaces rows in one step, and leaves everything where one of them has changed',
    async ({ ledger }) => {
      const at = (bucket: number, hit: number) => sampleRow({ hit }, { bucket })
      await ledger.add([at(0, 1), at(minute, 2), at(hour, 4)])
      const olds = await ledger.read({ since: 0, until: hour, grain: 'minute' })
      const news = [sampleRow({ hit: 3 }, { bucket: 0, grain: 'hour', lengthMs: hour }), ...olds.map((row) => ({ ...row, isDetail: true }))]
      const all = async () => (await ledger.read(always)).map(({ bucket, grain, tally }) => [bucket, grain, tally.hit])
      await ledger.add([at(minute, 8)])
      expect(await ledger.replace(olds, news), 'a row has changed').to.equal(false)
      expect(await all()).to.have.deep.members([
        [0, 'minute', 1],
        [minute, 'minute', 10],
        [hour, 'minute', 4],
      ])
      const again = await ledger.read({ since: 0, until: hour, grain: 'minute' })
      expect(await ledger.replace(again, news)).to.equal(true)
      expect(await ledger.replace(again, news), 'they are gone').to.equal(false)
      expect(await all()).to.have.deep.members([
        [0, 'hour', 3],
        [hour, 'minute', 4],
      ])
      const details = () => ledger.read({ ...always, grain: 'minute', details: true })
      expect((await details()).map(({ bucket, isDetail }) => [bucket, isDetail])).to.have.deep.members([
        [0, true],
        [minute, true],
      ])
      while (await ledger.drop({ ...always, until: minute, grain: 'minute', details: true }));
      expect((await details()).map(({ bucket }) => bucket)).to.eql([minute])
      expect(await all(), 'which are no calls of their own').to.have.length(2)
    },
  ],
  [
    'remembers facts when they differ from the newest of the same provider and endpoint',
    async ({ ledger }) => {
      for (const one of [
        facts(1, '0.1'),
        facts(2, '0.1'),
        facts(3, '0.2', 'tides'),
        facts(4, '0.3'),
        facts(5, '0.1'),
        facts(6, '0.2', 'tides'),
      ]) {
        await ledger.addFacts(one)
      }
      expect((await ledger.facts()).map(({ since }) => since)).to.eql([1, 3, 4, 5])
    },
  ],
]
