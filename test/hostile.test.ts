import { writeFileSync } from 'node:fs'
import { expect } from 'chai'
import { parse } from 'csv-parse/sync'
import { type LedgerRow, openStash, type Report } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import { readReport as reportOf } from '../src/queries/reports.js'
import { openDriver } from '../src/stores/sqlite/open-driver.js'
import { type Printed, stashen } from './support/command-line.js'
import { temporaryFolder } from './support/files.js'
import { scaled } from './support/scale.js'
import { noon } from './support/upstream.js'

/** Names that a foreign file may hold. */
// biome-ignore format: many words a line
const names = [
  '\u001b[31mred\u001b[0m', '\u001b]0;title\u0007', '\u202Egnp.exe', 'two\nlines\r', '\u009b5m', '\u200bnothing', '=1+1', '@SUM(A1)',
  '-2+3', '+4', '|`*_<b>', '\u{e0041}'
]

/** What a terminal, a page or a spreadsheet would obey. */
const obeyed = /[\p{Cf}\p{Zl}\p{Zp}\p{Cs}]|[^\P{Cc}\n]/u

describe('hostile input', () => {
  const file = temporaryFolder()

  it('from a foreign file is shown as text in every format, and obeyed by nobody', async () => {
    const path = file('foreign.db')
    const stash = await openStash({ store: sqliteStore(path) })
    await stash.operation('skerrylight.find', async () => 1, { freshFor: '1 min' })()
    await stash.close()
    const store = sqliteStore(path)
    await store.open({ now: noon, warn() {} })
    const [row] = (await store.ledger.read({ since: 0, until: 9e15 })) as [LedgerRow]
    await store.ledger.add(
      names.flatMap((name) => [
        { ...row, provider: name },
        { ...row, endpoint: name },
      ]),
    )
    await store.ledger.addFacts({
      provider: names[0] as string,
      endpoint: null,
      since: 0,
      plan: { currency: 'EUR', perCall: '1' },
    } as never)
    await store.close()
    const line = {
      is: 'call',
      at: '2026-06-30T12:00:00.000Z',
      provider: names[0],
      endpoint: names[1],
      mode: 'reuse',
      key: `GET ${names.join(' ')}`,
      how: 'hit',
      ms: 1,
    }
    writeFileSync(file('foreign.jsonl'), `${JSON.stringify(line)}\n`)
    const from = ['--store', path]
    // biome-ignore format: many words a line
    const printed = [
      ...['text', 'md', 'csv', 'html', 'json'].map((format) => ['report', ...from, '--format', format]),
      ['report', ...from, '--by', 'key', '--journal', file('foreign.jsonl')], ['report', ...from, '--by', 'hour'],
      ['report', ...from, '--compare', '2000-01-01..2020-01-01', '2020-01-01..2100-01-01'], ['status', ...from],
      ['status', ...from, '--json'], ['report', '--store', file(`none${names[0]}`)], ['report', ...from, '--since', names[0] as string],
      [names[2] as string]
    ]
    const all: Printed[] = []
    for (const args of printed) {
      const one = await stashen(...args)
      const { stdout, stderr } = one
      all.push(one)
      const [found] = obeyed.exec(stdout.replaceAll('\r\n', '\n') + stderr) ?? []
      expect(found && `${args.join(' ')}: U+${found.codePointAt(0)?.toString(16)}`).to.equal(undefined)
    }
    const [text, markdown, csv, html, json] = all.map(({ stdout }) => stdout)
    expect(text).to.include('\\u{1b}[31mred').and.include('\\u{202e}gnp.exe').and.include('two\\u{a}lines')
    expect(markdown).to.include('\\|\\`\\*\\_\\<b\\>')
    expect(html).to.include('&#60;b&#62;').and.not.include('<b>')
    const cells = (parse(csv as string) as string[][]).flat()
    expect(cells).to.include("'=1+1").and.include("'@SUM(A1)").and.include("'-2+3").and.include("'+4")
    expect(cells.filter((cell) => /^[=+@-]/.test(cell) && !/^-?[\d.]+$/.test(cell))).to.eql([])
    const report = JSON.parse(json as string) as Report
    expect(report.providers.map(({ provider }) => provider)).to.include.members(names)
    for (const [i, { code }] of all.entries()) expect(code, printed[i]?.join(' ')).to.equal(i < 10 ? 0 : 2)
  })

  it('bodies and heads of any shape have a key, are stored or not, and break no later call', async () => {
    let head: Record<string, string> = {}
    let body = '{}'
    const baseUrl = 'https://tides.ebbline.example'
    const endpoints = {
      ask: { request: 'POST /ask', safe: true, freshFor: '1 hour' },
      part: { request: 'POST /part', safe: true, freshFor: '1 hour', keyedBy: { body: ['/q'] } },
      get: { request: 'GET /get/{id}', freshFor: '1 hour', failsWhen: { at: '/error' } },
    } as const
    await using stash = await openStash({
      fetch: async () => new Response(body, { headers: head }),
      warn() {},
      providers: { ebbline: { baseUrl, endpoints } },
    })
    const how = async (path: string, init?: RequestInit) => {
      const response = await stash.fetch(baseUrl + path, init)
      await response.arrayBuffer()
      return stash.outcomeOf(response)?.how
    }
    const long = scaled(200_000, 500_000)
    const deep = (open: string, close: string) => open.repeat(200_000) + close.repeat(200_000)
    // biome-ignore format: many words a line
    const bodies = [
      JSON.stringify({ a: '\\"'.repeat(long / 2) }), JSON.stringify({ a: 'x'.repeat(long) }), `{"a":"${'x'.repeat(long)}`,
      deep('[', ']'), deep('{"q":', '}').replace('}', '1}'), `[${'1.5,'.repeat(100_000)}1]`, '1'.repeat(long / 5), '[1e999999999999]'
    ]
    for (const [i, one] of bodies.entries())
      for (const path of ['/ask', '/part']) {
        const ask = (text: string) => how(path, { method: 'POST', body: text, headers: { 'content-type': 'application/json' } })
        const first = await ask(one)
        if (path === '/ask') expect(first, `${i}`).to.equal('forwarded') // by a part that is nowhere in them, several are the same
        expect([await ask(one), await ask(`"${one}`)], `${path} ${i}`).to.eql(['hit', 'forwarded'])
      }
    const many = (count: number, one: (i: number) => string) => Array.from({ length: count }, (_, i) => one(i)).join(', ')
    const heads: [head: Record<string, string>, stored: boolean][] = [
      [{ vary: many(1_000, (i) => `x-${i}`) }, true],
      [Object.fromEntries(Array.from({ length: 10_000 }, (_, i) => [`x-f${i}`, `v?a=b&token=${i}`])), true],
      [{ ratelimit: many(400, (i) => `"l${i}";r=1000;t=60`) }, true],
      [{ link: many(3_000, () => `<https://a.example/?token=${'a'.repeat(50)}>; rel=next`) }, false],
      [{ 'x-a': '?'.repeat(200_000), 'x-b': '&a'.repeat(100_000), 'x-c': '://'.repeat(60_000), 'x-d': '?a='.repeat(60_000) }, true],
    ]
    for (const [i, [fields, stored]] of heads.entries()) {
      head = fields
      const headers = { authorization: `Bearer ${'a=b,'.repeat(16_000)}` }
      expect([await how(`/get/${i}`, { headers }), await how(`/get/${i}`, { headers })], `head ${i}`).to.eql([
        'forwarded',
        stored ? 'hit' : 'forwarded',
      ])
    }
    head = { 'content-type': 'application/json' }
    body = deep('[', ']')
    expect([await how('/get/deep'), await how('/get/deep')]).to.eql(['forwarded', 'hit'])
  })

  it('rows of a ledger that cannot be read are left out of reports and counted, and all others reported', async () => {
    const path = file('bad-rows.db')
    const plan = { currency: 'EUR', perCall: '0.5' }
    const open = () =>
      openStash({ store: sqliteStore(path), providers: { skerrylight: { plan, quota: { calls: 100, per: 'day' } } }, warn: () => {} })
    const stash = await open()
    const find = stash.operation('skerrylight.find', async (n: number) => n)
    for (let n = 0; n < 3; n++) await find(n)
    await stash.close()
    const good = await readReport(path)
    expect(good.totals.with).to.deep.include({ asked: 3, money: [{ currency: 'EUR', amount: '1.5' }] })
    const driver = openDriver(path)
    const [{ bucket, length }] = driver.prepare('SELECT bucket, length FROM ledger').all() as [{ bucket: number; length: number }]
    // biome-ignore format: many words a line
    const tallies = [
      '', '{', 'null', '[]', '1', '{"hit":"many"}', '{"hit":-1}', '{"merge":1}', '{"toJSON":1}', '{"units":{"made":[]}}', '{"ms":5}',
      '{"ms":"x"}'
    ]
    const insert = driver.prepare(
      'INSERT INTO ledger (detail, grain, bucket, mode, provider, endpoint, length, tally) VALUES (0, ?, ?, ?, ?, ?, ?, ?)',
    )
    for (const [i, tally] of tallies.entries()) insert.run(0, bucket, 'reuse', 'skerrylight', `bad${i}`, length, tally)
    const whole = '{"forwarded":1,"upAnswered":1}'
    insert.run(0, 9e15, 'reuse', 'skerrylight', 'far', length, whole)
    insert.run(0, bucket, 'reuse', 'skerrylight', 'short', 0, whole)
    insert.run(0, bucket, 'someday', 'skerrylight', 'mode', length, whole)
    insert.run(0, bucket, 'reuse', new Uint8Array([1]), 'bytes', length, whole)
    const facts = [
      '',
      '{',
      'null',
      '{"provider":1}',
      '{"provider":"skerrylight","endpoint":null,"since":1,"plan":{"currency":"EUR","perCall":"free"}}',
    ]
    const zone = '{"provider":"skerrylight","endpoint":null,"since":9000000000000,"quota":{"calls":5,"per":"day","zone":"Nowhere"}}'
    for (const one of [...facts, zone]) driver.prepare('INSERT INTO facts (since, facts) VALUES (9000000000000, ?)').run(one)
    await driver.close()
    const { unreadable, ...report } = await readReport(path)
    expect(unreadable).to.eql({ rows: tallies.length + 4, facts: facts.length + 1 })
    expect(report).to.eql(good)
    const text = await stashen('report', '--store', path)
    expect([text.code, text.stdout]).to.satisfy(
      ([code, out]: [number, string]) => code === 0 && /left out, for they cannot be read: 16 rows of counts, 6 records/.test(out),
      text.stdout,
    )
    for (const format of ['md', 'html'])
      expect((await stashen('report', '--store', path, '--format', format)).stdout).to.include('16 rows of counts')
    await using again = await open()
    await again.operation('skerrylight.bad0', async () => 1)()
    await again.operation('skerrylight.bad5', async () => 1)()
    const more = await again.report()
    expect(more.totals.with?.asked, 'what is counted from now on is counted').to.equal(5)
  })
})

async function readReport(path: string): Promise<Report> {
  const store = sqliteStore(path)
  await store.open({ now: noon, warn() {} })
  try {
    return await reportOf(store, noon)
  } finally {
    await store.close()
  }
}
