import { expect } from 'chai'
import type { UnbilledOutcome } from 'stashen'
import { parseUsage } from '../src/config/usage-file.js'
import { ConfigError } from '../src/core/errors/setup-errors.js'
import type { TallyRow } from '../src/core/ledger/ledger-row.js'
import { reconcile } from '../src/core/ledger/reconcile.js'
import { Tally } from '../src/core/ledger/tally.js'

const row = (at: string, counts: Partial<Tally>): TallyRow => ({
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
  { day: '2026-06-29', calls: first, amount: null },
  { day: '2026-06-30', calls: second, amount: null },
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
    const result = reconcile({
      provider: 'ebbline',
      usage: [{ day: '2026-07-04', calls: 3, amount: null }],
      rows: [],
      plan: {},
      zone: 'UTC',
    })
    expect(result.days).to.eql([{ day: '2026-07-04', theirs: 3, ours: 0, difference: 3, explained: [], unexplained: 3, amount: null }])
  })

  it('reads CSV and JSON, with columns of other names, quoted fields, a byte order mark and times', () => {
    const columns = { day: 'Date', calls: 'Billed requests' }
    const expected = [{ day: '2026-06-29', calls: 1_200, amount: null }]
    expect(parseUsage('\ufeffDate,Note,"Billed requests"\r\n2026-06-29T00:00:00Z,"a, b",1200\r\n', columns)).to.eql(expected)
    expect(parseUsage('[{"Date":"2026-06-29","Billed requests":1200}]', columns)).to.eql(expected)
    expect(parseUsage('day,calls\n')).to.eql([])
  })

  it('holds amounts against what the plan charges, day by day, alone or beside calls', () => {
    const charges = new Map([
      ['2026-06-29', '19.5'],
      ['2026-06-30', '0.55'],
    ])
    const days = [...usage(105, 60)].map((line, i) => ({ ...line, amount: ['19.50', '0.60'][i] as string }))
    const input = { provider: 'ebbline', rows, plan: { notBilled: ['refused'] as UnbilledOutcome[] }, zone: 'Europe/Oslo', charges }
    const both = reconcile({ ...input, usage: days })
    expect(both.days.map(({ amount }) => amount?.difference)).to.eql(['0', '0.05'])
    expect(both.amount).to.eql({ theirs: '20.1', ours: '20.05', difference: '0.05' })
    const alone = reconcile({ ...input, usage: days.map((line) => ({ ...line, calls: null })) })
    expect(alone).to.deep.include({ unexplained: 0, amount: both.amount })
    const others = reconcile({ ...input, rows: [...rows, row('2026-06-30T11:00Z', { others: 9 })], usage: usage(105, 69) })
    expect(others.days[1]?.explained).to.eql([{ by: 'other users of the key', calls: 9 }])
  })

  it('reads amounts', () => {
    const text = 'Date,Cost\n2026-06-29,1.50\n2026-06-30,-0.25\n'
    expect(parseUsage(text, { day: 'Date', amount: 'Cost' })).to.eql([
      { day: '2026-06-29', calls: null, amount: '1.50' },
      { day: '2026-06-30', calls: null, amount: '-0.25' },
    ])
    expect(() => parseUsage(text.replace('1.50', '"1,50"').replace('-0.25', 'EUR 2'), { day: 'Date', amount: 'Cost' }))
      .to.throw(ConfigError)
      .with.property('message')
      .that.includes('2:1 Cost: "1,50" is not a decimal')
      .and.includes('3:1 Cost: "EUR 2"')
  })

  const wrong: [what: string, text: string, ...words: string[]][] = [
    ['a missing column', 'date,calls\n2026-06-29,3\n', 'day', '"date", "calls"'],
    ['two missing columns', 'a,b\n1,2\n', 'day', 'calls'],
    ['a decimal comma', 'day,calls\n2026-06-29,"1.234,5"\n', '2:1', '"1.234,5"', 'whole number'],
    ['several faults at once', 'day,calls\n29.06.2026,3\n2026-06-30,\n', '2:1', '29.06.2026', '3:1', '""'],
    ['lines of other lengths', 'day,calls\n2026-06-29\n', 'no CSV'],
    ['JSON that is none', '[{"day":', 'not JSON'],
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
