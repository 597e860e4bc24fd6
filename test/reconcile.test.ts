import { expect } from 'chai'
import type { UnbilledOutcome } from 'stashen'
import { parseUsage } from '../src/config/usage-file.js'
import { ConfigError } from '../src/core/errors.js'
import type { LedgerRow } from '../src/core/ledger/ledger-row.js'
import { reconcile } from '../src/core/ledger/reconcile.js'
import { Tally } from '../src/core/ledger/tally.js'

const row = (at: string, counts: Partial<Tally>): LedgerRow => ({
  ...{ bucket: Date.parse(at), grain: 'minute', lengthMs: 60_000, mode: 'reuse', provider: 'ebbline', endpoint: 'tides' },
  tally: Object.assign(new Tally(), counts),
})

/** Two days in June, in Oslo: 10 calls at 23:00 UTC belong to the second. */
const rows = [
  row('2026-06-29T10:00Z', { upAnswered: 100, upUnmodified: 7, upRefused: 5, upFailed: 3, upServerError: 2 }),
  row('2026-06-29T23:00Z', { upAnswered: 10 }),
  row('2026-06-30T10:00Z', { upAnswered: 50 }),
]

const usage = (first: number, second: number) => [
  { day: '2026-06-29', calls: first },
  { day: '2026-06-30', calls: second },
]

describe('reconciling', () => {
  /** What the plan leaves off, what the provider says of both days, and what comes of it. */
  const table: [notBilled: UnbilledOutcome[], theirs: [number, number], expected: string[], unexplained: number][] = [
    [['refused', 'unmodified'], [96, 60], ['agrees', 'agrees'], 0],
    [['refused', 'unmodified'], [101, 60], ['5 refused calls', 'agrees'], 0],
    [['refused', 'unmodified'], [108, 60], ['5 refused calls, 7 unmodified answers', 'agrees'], 0],
    [['refused', 'unmodified'], [93, 60], ['-3 failed calls', 'agrees'], 0],
    [['refused', 'failed'], [103, 60], ['3 failed calls', 'agrees'], 0],
    [['refused', 'unmodified'], [96, 61], ['agrees', 'unexplained 1'], 1],
    [['refused', 'unmodified'], [90, 60], ['unexplained -6', 'agrees'], 6],
    [['refused', 'unmodified'], [106, 50], ['10 days of another time zone', '-10 days of another time zone'], 0],
    [['refused', 'unmodified'], [106, 51], ['unexplained 10', 'unexplained -9'], 19],
  ]
  for (const [notBilled, [first, second], expected, unexplained] of table) {
    it(`of ${first} and ${second} calls with ${notBilled} left off gives ${expected.join('; ')}`, () => {
      const result = reconcile({ provider: 'ebbline', usage: usage(first, second), rows, plan: { notBilled }, zone: 'Europe/Oslo' })
      const verdicts = result.days.map(({ difference, explained, unexplained: left }) =>
        difference === 0 ? 'agrees' : left !== 0 ? `unexplained ${left}` : explained.map(({ by, calls }) => `${calls} ${by}`).join(', '),
      )
      expect(verdicts).to.eql(expected)
      expect(result).to.include({ unexplained, theirs: first + second })
    })
  }

  it('counts days that only one of the two knows', () => {
    const result = reconcile({ provider: 'ebbline', usage: [{ day: '2026-07-04', calls: 3 }], rows: [], plan: {}, zone: 'UTC' })
    expect(result.days).to.eql([{ day: '2026-07-04', theirs: 3, ours: 0, difference: 3, explained: [], unexplained: 3 }])
  })

  it('reads CSV and JSON, with columns of other names, quoted fields, a byte order mark and times', () => {
    const columns = { day: 'Date', calls: 'Billed requests' }
    const expected = [{ day: '2026-06-29', calls: 1_200 }]
    expect(parseUsage('\ufeffDate,Note,"Billed requests"\r\n2026-06-29T00:00:00Z,"a, b",1200\r\n', columns)).to.eql(expected)
    expect(parseUsage('[{"Date":"2026-06-29","Billed requests":1200}]', columns)).to.eql(expected)
    expect(parseUsage('day,calls\n')).to.eql([])
  })

  const wrong: [what: string, text: string, ...words: string[]][] = [
    ['a missing column', 'date,calls\n2026-06-29,3\n', 'day', '"date", "calls"'],
    ['two missing columns', 'a,b\n1,2\n', 'day', 'calls'],
    ['a decimal comma', 'day,calls\n2026-06-29,"1.234,5"\n', '2:1', '"1.234,5"', 'whole number'],
    ['several faults at once', 'day,calls\n29.06.2026,3\n2026-06-30,\n', '2:1', '29.06.2026', '3:1', '""'],
    ['lines of other lengths', 'day,calls\n2026-06-29\n', 'no CSV'],
    ['JSON that is none', '[{"day":', 'no JSON'],
  ]
  for (const [what, text, ...words] of wrong) {
    it(`says what is wrong with ${what}`, () => {
      let error: unknown
      try {
        parseUsage(text)
      } catch (thrown) {
        error = thrown
      }
      expect(error).to.be.instanceOf(ConfigError)
      for (const word of ['the usage export', ...words]) expect((error as Error).message).to.include(word)
    })
  }
})
