import { expect } from 'chai'
import pc from 'picocolors'
import type { UnbilledOutcome } from 'stashen'
import { parseUsage } from '../src/config/usage-file.js'
import { ConfigError } from '../src/core/errors/setup-errors.js'
import type { TallyRow } from '../src/core/ledger/ledger-row.js'
import { reconcile, type UsageOfDays } from '../src/core/ledger/reconcile.js'
import { Tally } from '../src/core/ledger/tally.js'
import { reconciliationText } from '../src/render/reconciliation-text.js'

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
  { from: '2026-06-29', to: '2026-06-29', calls: first, amount: null },
  { from: '2026-06-30', to: '2026-06-30', calls: second, amount: null },
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
    [['refused', 'unmodified'], [106, 50], ['agrees', 'agrees'], 0],
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

  it('names the shift of its days before anything else, compares its own days or those asked for, and says what may be coincidence', () => {
    const more = [...rows, row('2026-06-10T10:00Z', { upAnswered: 1_000 }), row('2026-07-02T10:00Z', { upAnswered: 2_000 })]
    const input = {
      provider: 'ebbline',
      rows: more,
      plan: { notBilled: ['refused', 'unmodified'] as UnbilledOutcome[] },
      zone: 'Europe/Oslo',
    }
    const shifted = reconcile({ ...input, usage: usage(106, 50) })
    expect(shifted).to.deep.include({ shiftHours: -2, from: '2026-06-29', to: '2026-06-30', theirs: 156, ours: 156, unexplained: 0 })
    const text = (theirs: readonly UsageOfDays[], range = {}) =>
      reconciliationText(reconcile({ ...input, ...range, usage: theirs }), pc.createColors(false))
    expect(text(usage(106, 50))).to.include('they agree if its days begin 2 hours after those of Europe/Oslo')
    expect(text(usage(101, 60)), 'one day').to.include('may be +5 refused calls')
    const refusing = [
      row('2026-06-29T10:00Z', { upAnswered: 10, upRefused: 2 }),
      row('2026-06-30T10:00Z', { upAnswered: 20, upRefused: 3 }),
    ]
    expect(reconcile({ ...input, rows: refusing, usage: usage(12, 23) }).isConsistent, 'two days').to.equal(true)
    const asked = reconcile({ ...input, usage: usage(96, 999), to: '2026-06-29' })
    expect(asked).to.deep.include({ theirs: 96, ours: 96, unexplained: 0, to: '2026-06-29' })
    expect(text(usage(96, 59)))
      .to.include('is it the right --mode and --zone')
      .and.not.include('somebody else')
    expect(text(usage(96, 61))).to.include('does somebody else use the key')
  })

  it('reads exports as they come: separators, encodings, thousands, decimal commas, wrapped and line by line JSON, totals', () => {
    const two = [
      { from: '2026-06-29', to: '2026-06-29', calls: 1_200, amount: '1234.5' },
      { from: '2026-06-30', to: '2026-06-30', calls: 3, amount: '-0.25' },
    ]
    const columns = { amount: 'cost', calls: 'calls' }
    const csv = 'day;calls;cost\r\n2026-06-29;1.200;"1.234,50"\r\n2026-06-30T00:00:00Z;3;-0,25\r\nTotal;1203;1.234,25\r\n;;Summe\r\n'
    const comma = { ...columns, decimal: 'comma' } as const
    const utf16 = (text: string, swap = false) => {
      const bytes = Buffer.from(text, 'utf16le')
      return new Uint8Array(swap ? bytes.swap16() : bytes)
    }
    const exports: [what: string, given: string | Uint8Array, columns: object][] = [
      ['semicolons', csv, comma],
      ['tabs', csv.replaceAll(';', '\t'), comma],
      ['UTF-8 with a mark', new TextEncoder().encode(`\ufeff${csv}`), comma],
      ['UTF-16', utf16(`\ufeff${csv}`), comma],
      ['UTF-16 of the other order', utf16(`\ufeff${csv}`, true), comma],
      ['UTF-16 without a mark', utf16(csv), comma],
      ['quoted thousands', 'day,calls,cost\n2026-06-29,"1,200","1,234.5"\n2026-06-30,3,-0.25\nTOTAL,,\n', columns],
      ['spaced thousands', "day,calls,cost\n2026-06-29,1 200,1'234.5\n2026-06-30,3,-0.25\n", columns],
      [
        'wrapped JSON',
        JSON.stringify({ data: two.map(({ from, calls, amount }) => ({ day: from, calls, cost: amount })), page: 1 }),
        columns,
      ],
      ['JSON Lines', two.map(({ from, calls, amount }) => JSON.stringify({ day: from, calls, cost: amount })).join('\n'), columns],
    ]
    for (const [what, given, of] of exports)
      expect(
        parseUsage(given, of).usage.map((line) => ({ ...line, amount: String(Number(line.amount)) })),
        what,
      ).to.eql(two)
    expect(parseUsage(csv, comma).notices).to.eql(['line 4 was skipped: it is a total', 'line 5 was skipped: it is a total'])
  })

  it('compares months, ranges of days and invoices with fees, taxes and rounded amounts', () => {
    const june = { from: '2026-06-01', to: '2026-06-30' }
    const charges = new Map([
      ['2026-06-29', '23.004'],
      ['2026-06-30', '4.1'],
      ['2026-07-02', '1'],
    ])
    const input = {
      provider: 'ebbline',
      rows,
      plan: { notBilled: ['refused'] as UnbilledOutcome[], currency: 'EUR' },
      zone: 'Europe/Oslo',
      charges,
    }
    const compared = (text: string, columns = {}, period?: string) =>
      reconcile({ ...input, usage: parseUsage(text, { amount: 'amount', ...columns }, period).usage })
    const of = ({ theirs, ours, unexplained, amount, tax, days }: ReturnType<typeof compared>) => [
      days.length,
      theirs,
      ours,
      unexplained,
      amount?.difference,
      tax,
    ]
    const invoice = 'text,amount\nBase fee,19.00\n"Calls, June",8.10\nVAT 25 %,6.78\nTotal,33.88\n'
    const month = (amount: string) => `day,calls,amount\n2026-06,163,${amount}\n`
    // biome-ignore format: a row a line
    const table: [what: string, result: ReturnType<typeof compared>, expected: unknown[]][] = [
      ['a month', compared(month('27.10')), [1, 163, 163, 0, '0', null]], ['a cent more', compared(month('27.11')), [1, 163, 163, 0, '0.006', null]],
      ['days from one to another', compared('day,calls,amount\n2026-06-01/2026-06-29,103,23\n2026-06-30 to 2026-06-30,60,4.1\n'), [2, 163, 163, 0, '0', null]],
      ['an invoice', compared(invoice, {}, '2026-06'), [1, 163, 163, 0, '0', '6.78']], ['one line', compared('amount\n27.1\n', {}, '2026-06-01/2026-06-30'), [1, 163, 163, 0, '0', null]],
      ['a fee beside calls', compared('text,calls,amount\nBase fee,,19\nCalls,163,8.10\n', { calls: 'calls' }, '2026-06'), [1, 163, 163, 0, '0', null]],
      ['calls that differ', compared('calls,amount\n170,27.10\n', { calls: 'calls' }, '2026-06'), [1, 170, 163, 7, '0', null]],
      ['a rounding line', compared('text,amount\nCalls,27.00\nRounding,0.10\n', {}, '2026-06'), [1, 163, 163, 0, '0', null]],
    ]
    for (const [what, result, expected] of table) expect(of(result), what).to.eql(expected)
    expect(compared(month('27.10')).days[0]).to.include(june)
    const cut = reconcile({ ...input, usage: parseUsage('day,calls\n2026-06,163\n2026-07-02,3\n').usage, from: '2026-06-15' })
    expect([cut.from, cut.theirs, cut.ours], 'no part of a line is compared').to.eql(['2026-07-01', 3, 0])
    const text = reconciliationText(compared(invoice, {}, '2026-06'), pc.createColors(false))
    expect(text).to.include('2026-06-01 to 2026-06-30').and.include('27.1 by ebbline, 27.104 by the plan, without 6.78 of tax: they agree')
    for (const [
      given,
      words,
    ] of [['day,calls\n2026-06,9\n2026-06-30,1\n', '"2026-06-30" is in two lines'], ['day,calls\n2026-13,9\n', '"2026-13" is not a date'], ['day,calls\n2026-06-30/2026-06-01,9\n', 'is not a date']] as const) // biome-ignore format: a row a line
      expect(() => parseUsage(given), given)
        .to.throw(ConfigError)
        .with.property('message')
        .that.includes(words)
  })

  it('counts days that only one of the two knows', () => {
    const result = reconcile({
      provider: 'ebbline',
      usage: [{ from: '2026-07-04', to: '2026-07-04', calls: 3, amount: null }],
      rows: [],
      plan: {},
      zone: 'UTC',
    })
    expect(result.days).to.eql([
      { from: '2026-07-04', to: '2026-07-04', theirs: 3, ours: 0, difference: 3, explained: [], unexplained: 3, amount: null },
    ])
  })

  it('reads CSV and JSON, with columns of other names, quoted fields, a byte order mark and times', () => {
    const columns = { day: 'Date', calls: 'Billed requests' }
    const expected = [{ from: '2026-06-29', to: '2026-06-29', calls: 1_200, amount: null }]
    expect(parseUsage('\ufeffDate,Note,"Billed requests"\r\n2026-06-29T00:00:00Z,"a, b",1200\r\n', columns).usage).to.eql(expected)
    expect(parseUsage('[{"Date":"2026-06-29","Billed requests":1200}]', columns).usage).to.eql(expected)
    expect(parseUsage('day,calls\n').usage).to.eql([])
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
    expect(parseUsage(text, { day: 'Date', amount: 'Cost' }).usage).to.eql([
      { from: '2026-06-29', to: '2026-06-29', calls: null, amount: '1.50' },
      { from: '2026-06-30', to: '2026-06-30', calls: null, amount: '-0.25' },
    ])
    expect(() => parseUsage(text.replace('1.50', '"1,50"').replace('-0.25', 'EUR 2'), { day: 'Date', amount: 'Cost' }))
      .to.throw(ConfigError)
      .with.property('message')
      .that.includes('2:1 Cost: "1,50" is not a decimal without currency: if its decimals have a comma, say "decimal: comma"')
      .and.includes('3:1 Cost: "EUR 2"')
  })

  const wrong: [what: string, text: string, ...words: string[]][] = [
    ['a missing column', 'date,calls\n2026-06-29,3\n', 'day', '"date", "calls"'],
    ['two missing columns', 'a,b\n1,2\n', 'day', 'calls'],
    ['a decimal comma', 'day,calls\n2026-06-29,"1.234,5"\n', '2:1', '"1.234,5"', 'whole number'],
    ['several faults at once', 'day,calls\n29.06.2026,3\n2026-06-30,\n', '2:1', '29.06.2026', '3:1', '""'],
    ['a day that there is not', 'day,calls\n2026-02-30,3\n', '2:1', '"2026-02-30" is not a date'],
    ['two columns of a name', 'day,calls,calls\n2026-06-29,1,2\n', '1:1 calls', 'two columns of this name'],
    ['JSON of other things', '[1]', '1:1', 'is not an object'],
    ['lines of other lengths', 'day,calls\n2026-06-29\n', 'not CSV'],
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
