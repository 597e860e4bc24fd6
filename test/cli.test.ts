import { execFile, spawn, spawnSync } from 'node:child_process'
import { once } from 'node:events'
import { copyFileSync, existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { createServer } from 'node:http'
import { fileURLToPath } from 'node:url'
import { promisify } from 'node:util'
import Big from 'big.js'
import { expect } from 'chai'
import { parse } from 'csv-parse/sync'
import { createColors } from 'picocolors'
import { type Explanation, type Figures, openStash, type Report, type StashConfig, type StoredEntry } from 'stashen'
import { providers } from 'stashen/harbour'
import { fileJournal } from 'stashen/journal'
import { sqliteStore } from 'stashen/sqlite'
import { runDemo } from '../examples/harbour/demo.js'
import type { DayCounts } from '../examples/harbour/run-day.js'
import { summaryOf } from '../src/core/traffic/summary.js'
import { requestKey } from '../src/measure/request-key.js'
import { comparisonText } from '../src/render/comparison-text.js'
import { trafficText } from '../src/render/traffic-text.js'
import { bin, type Printed, stashen, stashenIn } from './support/command-line.js'
import { countingServer } from './support/counting-server.js'
import { temporaryFolder } from './support/files.js'
import { haveRedis, haveTerminal, terminal } from './support/needs.js'
import { RedisServer } from './support/redis-server.js'
import { isLong } from './support/scale.js'

/** What `stashen entries --json` prints. */
interface ListedEntries {
  readonly all: number
  readonly entries: readonly StoredEntry[]
}

describe('the command line', () => {
  const file = temporaryFolder()

  it('takes the store from the configuration where none is named, and says what to give where there is none', async () => {
    const at = async (folder: string, ...args: string[]) => {
      mkdirSync(folder, { recursive: true })
      return stashenIn(folder, ...args)
    }
    const folder = file('configured')
    mkdirSync(folder)
    const own = new URL('../src/stores/', import.meta.url)
    const rules = `providers: { ebbline: { baseUrl: 'https://tides.ebbline.example/v2', endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 day' } } } }`
    writeFileSync(
      `${folder}/stashen.config.mjs`,
      `import { sqliteStore } from '${new URL('sqlite/index.js', own)}'
import { packedStore } from '${new URL('packed/index.js', own)}'
export default { store: packedStore({ store: sqliteStore('${folder}/own.db'), encrypt: { keys: [{ id: 'k', secret: '${'A'.repeat(43)}=' }] } }), ${rules} }
`,
    )
    writeFileSync(file('data.yaml'), 'providers: {}\n')
    const har = {
      log: {
        ...{ version: '1.2', creator: { name: 'a', version: '1' } },
        entries: [
          {
            ...{ startedDateTime: new Date().toISOString(), time: 1, cache: {}, timings: { send: 0, wait: 0, receive: 0 } },
            request: {
              ...{ method: 'GET', url: 'https://tides.ebbline.example/v2/tides/1', httpVersion: 'HTTP/1.1', cookies: [], headers: [] },
              ...{ queryString: [], headersSize: -1, bodySize: -1 },
            },
            response: {
              ...{ status: 200, statusText: 'OK', httpVersion: 'HTTP/1.1', cookies: [], headers: [], redirectURL: '' },
              ...{ content: { size: 4, mimeType: 'text/plain', text: 'high' }, headersSize: -1, bodySize: -1 },
            },
          },
        ],
      },
    }
    writeFileSync(file('one.har'), JSON.stringify(har))
    const root = file('application')
    const below = `${root}/src/jobs`
    mkdirSync(below, { recursive: true })
    const yaml = '{ baseUrl: "https://tides.ebbline.example/v2", endpoints: { tides: { request: "GET /tides/{id}", freshFor: 1 day } } }'
    writeFileSync(`${root}/stashen.config.yaml`, `store: ./named.db\nproviders:\n  ebbline: ${yaml}\n`)
    writeFileSync(file('nowhere.json'), '{ "store": "mongodb://127.0.0.1/" }')
    writeFileSync(file('empty.json'), '{ "store": " " }')
    const elsewhere = file('elsewhere')
    const one = 'GET https://tides.ebbline.example/v2/tides/1 ebbline.tides'
    const named = ['--config', `${folder}/stashen.config.mjs`]
    const rows: [folder: string, args: string[], code: number, words: string][] = [
      [folder, ['import', file('one.har')], 0, '1 answer stored'],
      [folder, ['entries'], 0, 'ebbline.tides'],
      [elsewhere, ['entries', ...named], 0, '1 answer'],
      [folder, ['entries', one], 0, 'a call now is given it'],
      [folder, ['status'], 0, '1 entry'],
      [folder, ['report'], 0, 'No calls were counted'],
      [folder, ['invalidate', '--provider', 'ebbline'], 0, '1 answer invalidated'],
      [folder, ['entries', one], 0, 'a call now asks again'],
      [folder, ['forgive', 'pintle'], 2, 'the store of the configuration knows nothing of a provider "pintle"'],
      [folder, ['purge', '--everything'], 0, '1 answer dropped'],
      [elsewhere, ['entries'], 2, 'no store is named: give --store, a file, or redis://HOST'],
      [elsewhere, ['entries', '--config', file('data.yaml')], 2, `"${file('data.yaml')}" has no "store": name one there, or with --store`],
      [elsewhere, ['explain', 'https://tides.ebbline.example/v2/tides/1', '--store', `${root}/named.db`], 2, 'there is no file'],
      [elsewhere, ['report', '--config', file('absent.yaml')], 2, `there is no file "${file('absent.yaml')}"`],
      [below, ['entries'], 2, `there is no file "${root}/named.db"`],
      [below, ['import', file('one.har')], 0, '1 answer stored'],
      [below, ['entries'], 0, 'ebbline.tides'],
      [
        elsewhere,
        ['explain', 'https://tides.ebbline.example/v2/tides/1', '--store', `${root}/named.db`],
        0,
        'there is no configuration here',
      ],
      [elsewhere, ['explain', 'https://tides.ebbline.example/v2/tides/1', '--store', `${root}/named.db`], 0, '1 answer'],
      [elsewhere, ['explain', 'https://tides.ebbline.example/v2/tides', '--store', `${root}/named.db`], 0, 'no stored response matches'],
      [
        elsewhere,
        ['explain', 'https://tides.ebbline.example/v2/tides/1?a=1', '--store', `${root}/named.db`],
        0,
        'no stored response matches',
      ],
      [below, ['explain', 'https://tides.ebbline.example/v2/tides/1'], 0, 'would be answered from store'],
      [elsewhere, ['entries', '--config', `${root}/stashen.config.yaml`], 0, '1 answer'],
      [elsewhere, ['entries', '--config', file('nowhere.json')], 2, 'no stores at "mongodb:" addresses'],
      [elsewhere, ['check', '--config', file('empty.json')], 2, 'store: is empty: name a file, or redis://HOST'],
    ]
    for (const [where, args, code, words] of rows) {
      const done = await at(where, ...args)
      expect(done.code, `${args.join(' ')}: ${done.stderr}`).to.equal(code)
      expect(code === 0 ? done.stdout : done.stderr, args.join(' ')).to.include(words)
    }
    const application = `
      import { openStash } from 'stashen'
      import { loadConfig } from 'stashen/config'
      const stash = await openStash({ ...(await loadConfig()), mode: 'offline' })
      console.log(await (await stash.fetch('https://tides.ebbline.example/v2/tides/1')).text())
      await stash.close()
    `
    const { stdout, stderr } = spawnSync(
      process.execPath,
      [
        '--input-type=module',
        '--eval',
        application.replaceAll(/'stashen(\/config)?'/g, (_, part) => `'${import.meta.resolve(`stashen${part ?? ''}`)}'`),
      ],
      {
        ...{ cwd: below, encoding: 'utf8' },
      },
    )
    expect([stdout, stderr], 'the application opens what the commands read').to.eql(['high\n', ''])
  })

  describe('stashen demo', () => {
    let demo: Printed
    before(async () => {
      demo = await stashen('demo', '--store', file('demo.db'), '--seed', '7')
    })

    it('prints what happened without and with the stash, and what to try next on the file it left', () => {
      expect(demo).to.include({ code: 0, stderr: '' })
      for (const words of ['ebbline', 'position', 'without', 'Saved', `npx stashen report --store ${file('demo.db')} --by hour`])
        expect(demo.stdout).to.include(words)
    })

    it('left a file whose report prints the same figures again, as text and as JSON', async () => {
      const text = (await stashen('report', '--store', file('demo.db'), '--zone', 'Europe/Oslo')).stdout
      const [, forwarded, stored] = /^The same call: (\d+) ms, then (\d+(?:\.\d+)?) ms from store\n/.exec(demo.stdout) ?? []
      expect(Number(stored), 'however busy the machine').to.be.below(Number(forwarded))
      expect(demo.stdout.split('\n\n').slice(1).join('\n\n').startsWith(text)).to.equal(true)
      const report = JSON.parse((await stashen('report', '--store', file('demo.db'), '--json')).stdout) as Report
      expect(report.totals.without.basis).to.equal('measured')
      expect(report.totals.without.asked)
        .to.be.at.least(isLong ? 9_000 : 900)
        .and.to.equal(report.totals.with?.asked)
      expect(report.totals.with?.stale).to.be.above(0)
      expect(report.totals.with?.errored).to.be.below((report.totals.without.errored ?? 0) / (isLong ? 100 : 1))
      expect(report.totals.with?.refused, 'no call is refused').to.equal(0)
      expect(report.totals.with?.oldestStaleMs).to.be.above(60_000)
      expect(demo.stdout).to.match(/\d+ stale responses helped out [\s\S]*, the\s+oldest [\d a-z]+ old/)
      const onTheBoard = report.providers.flatMap(({ endpoints }) =>
        endpoints.filter(({ endpoint }) => /^(tides|position|tariff)$/.test(endpoint)),
      )
      expect(
        onTheBoard.map((line) => line.with?.errored),
        'the board never fails',
      ).to.eql([0, 0, 0])
      expect(report.providers.map(({ provider }) => provider)).to.eql(['ebbline', 'quayrate', 'skerrylight'])
    })

    it('left a file whose stored answers can be listed, printed, saved, invalidated and dropped', async () => {
      const [from, at] = [
        ['--store', file('demo.db')],
        ['--at', '2026-06-30T23:30+02:00'],
      ]
      const listed = JSON.parse((await stashen('entries', ...from, ...at, '--json', '--limit', '1000')).stdout) as ListedEntries
      expect(listed.entries.length).to.equal(listed.all).and.to.be.above(20)
      const fresh = JSON.parse(
        (await stashen('entries', ...from, ...at, '--json', '--state', 'fresh', '--sort', 'left')).stdout,
      ) as ListedEntries
      const left = fresh.entries.map(({ freshForMs }) => freshForMs)
      expect(left)
        .to.have.length.above(1)
        .and.to.eql([...left].sort((one, other) => other - one))
      const text = (await stashen('entries', ...from, ...at, '--provider', 'ebbline', '--zone', 'Europe/Oslo')).stdout
      expect(text)
        .to.match(/^\d+ answers\n/)
        .and.to.include('ebbline.tides')
        .and.to.include('--json shows whole keys')
      expect(Math.max(...text.split('\n').map((line) => line.length))).to.be.at.most(80)
      const key = 'GET https://tides.ebbline.example/v2/stations/st-017 ebbline.station'
      const one = (await stashen('entries', key, ...from, ...at, '--save', file('station.json'), '--zone', 'Europe/Oslo')).stdout
      for (const words of [key, 'status 200', ' old', 'from now', 'content-type: application/json', '    "name": "Kelpmouth",'])
        expect(one).to.include(words)
      expect(JSON.parse(readFileSync(file('station.json'), 'utf8'))).to.include({ id: 'st-017' })

      copyFileSync(file('demo.db'), file('changed.db'))
      const on = ['--store', file('changed.db')]
      const count = async (...which: string[]) =>
        (JSON.parse((await stashen('entries', ...on, '--json', ...which)).stdout) as ListedEntries).all
      const quotes = await count('--provider', 'quayrate')
      expect((await stashen('purge', ...on, '--provider', 'quayrate', '--dry-run')).stdout).to.equal(`${quotes} answers would be dropped\n`)
      expect((await stashen('purge', ...on, '--provider', 'quayrate')).stdout).to.equal(`${quotes} answers dropped\n`)
      expect(JSON.parse((await stashen('invalidate', ...on, '--everything', '--json')).stdout)).to.eql({
        entries: listed.all - quotes,
        dryRun: false,
      })
      expect([await count('--provider', 'quayrate'), await count('--state', 'fresh'), await count()]).to.eql([0, 0, listed.all - quotes])
      const { entries: swept } = JSON.parse((await stashen('sweep', ...on, '--json')).stdout) as { entries: number }
      expect([await count(), swept > 0], 'what lasts longer than since the demo stays').to.eql([listed.all - quotes - swept, true])
      expect((await stashen('sweep', ...on)).stdout).to.equal('0 answers dropped\n')
      expect((await stashen('report', ...on)).stdout.split('\n')[0], 'the books stay').to.equal(
        (await stashen('report', ...from)).stdout.split('\n')[0],
      )
      const ofTariff = ['--label', 'tariff kelpmouth']
      expect((await stashen('export', ...from, ...ofTariff, '--output', file('tariff.har'))).stdout).to.equal('')
      expect((await stashen('import', file('tariff.har'), '--store', file('seeded.db'))).stdout).to.equal(`${quotes} answers stored\n`)
      expect((await stashen('export', '--store', file('seeded.db'))).stdout).to.equal(readFileSync(file('tariff.har'), 'utf8'))
      writeFileSync(file('other.har'), readFileSync(file('tariff.har'), 'utf8').replaceAll('"_stashen"', '"_other"'))
      expect((await stashen('import', file('other.har'), '--store', file('none.db'))).stdout).to.equal(
        `0 answers stored\n  ${quotes} not stored: no endpoint covers the request: give its rules with --config\n`,
      )
      writeFileSync(file('rules.json'), JSON.stringify({ providers: { quayrate: providers.quayrate } }))
      const ruled = await stashen('import', file('other.har'), '--store', file('ruled.db'), '--config', file('rules.json'), '--json')
      expect([ruled.stderr, JSON.parse(ruled.stdout)]).to.eql(['', { stored: quotes, notStored: {} }])
      for (const [args, ...words] of [
        [['export', ...on, '--output', file('tariff.har')], 'there is a file', 'already'],
        [['import', file('absent.har'), '--store', file('seeded.db')], 'there is no file'],
        [['import', file('station.json'), '--store', file('seeded.db')], 'not an HTTP Archive (HAR 1.2): "log" is missing'],
        [['purge', ...on], 'means every stored answer', '--everything'],
        [['purge', ...on, '--everything', '--provider', 'ebbline'], '--everything means all'],
        [['invalidate', ...on, '--status', '4x'], '"4xx"'],
        [['entries', 'GET nothing', ...on], 'nothing is stored under'],
        [['entries', key, ...on, '--state', 'fresh'], 'not both'],
        [['entries', ...on, '--save', 'x'], 'give its key'],
        [['entries', ...on, '--sort', 'rank'], 'key, age, size, left'],
        [['entries', ...on, '--limit', '0'], 'at least 1'],
        [['entries', '--store', 'https://a.example'], 'a file, or redis://'],
      ] as const) {
        const { code, stderr } = await stashen(...args)
        expect(code, args.join(' ')).to.equal(2)
        for (const word of words) expect(stderr).to.include(word)
      }
    }).timeout(120_000)

    it('left a file whose report prints as CSV and Markdown, and of a time in words', async () => {
      const json = JSON.parse((await stashen('report', '--store', file('demo.db'), '--format', 'json')).stdout) as Report
      const rows = async (...args: string[]) =>
        parse((await stashen('report', '--store', file('demo.db'), '--format', 'csv', ...args)).stdout, { columns: true }) as Record<
          string,
          string
        >[]
      const sum = (some: Record<string, string>[], name: string) =>
        Number(some.reduce((total, row) => total.plus(row[name] || 0), new Big(0)))
      const { with: reused, without, saved } = json.totals
      for (const some of [await rows(), await rows('--by', 'hour')]) {
        expect(sum(some, 'asked'), 'a column adds up').to.equal(reused?.asked)
        expect([sum(some, 'upstream_with'), sum(some, 'saved_calls')]).to.eql([reused?.upstream, saved?.calls])
        for (const [name, of] of [['money_without', without], ['money_with', reused], ['money_saved', saved]] as const) // biome-ignore format: a row a line
          expect(sum(some, name), name).to.equal(Number(of?.money[0]?.amount))
        expect(some.at(-1)).to.include({ kind: 'note', note: json.savedMeans })
      }
      const markdown = (await stashen('report', '--store', file('demo.db'), '--format', 'md', '--zone', 'Europe/Oslo')).stdout
      expect(markdown)
        .to.include(`# Calls from 2026-06-30 ${isLong ? '02:00 to 2026-06-30 21:00' : '12:00 to 2026-06-30 15:00'} (Europe/Oslo)`)
        .and.match(/\| \*\*all calls\*\* \| without \| [\d,]{3,} \|/)
      expect((await stashen('report', '--store', file('demo.db'), '--since', '2026-07-02', '--until', 'now')).stdout).to.include(
        'No calls were counted',
      )
      const wrong = await stashen('report', '--store', file('demo.db'), '--since', 'start of moth')
      expect([wrong.code, wrong.stderr.trim().split('\n').length]).to.eql([2, 1])
      expect(wrong.stderr).to.include('start of moth').and.include('7 days ago')
    })

    it('left a file, and a journal of its calls, that tell keys, providers, and two times side by side', async () => {
      const report = async (...args: string[]) => await stashen('report', '--store', file('demo.db'), '--zone', 'Europe/Oslo', ...args)
      const journal = ['--by', 'key', '--journal', file('demo.db.calls.jsonl')]
      const { byKey, totals } = JSON.parse((await report(...journal, '--json')).stdout) as Report
      expect(byKey?.journal).to.include({ skipped: 0, lost: 0, lines: (totals.with?.asked ?? 0) + (totals.with?.upstream ?? 0) })
      const [first] = byKey?.list ?? []
      expect(first?.key).to.match(/^GET https:\/\/tides\.ebbline\.example\/v2\/stations\//)
      expect(first?.saved).to.equal((first?.asked ?? 0) - (first?.upstream ?? 0))
      for (const args of [
        [],
        ['--by', 'hour'],
        journal,
        ['--compare', '2026-06-30T12:00..2026-06-30T13:00', '2026-06-30T13:00..2026-06-30T15:00'],
      ])
        expect(Math.max(...(await report(...args)).stdout.split('\n').map((line) => line.length)), args.join(' ')).to.be.at.most(80)
      const piped = spawnSync('bash', ['-c', `node ${bin} report --store ${file('demo.db')} --by hour --format csv | head -1`], {
        encoding: 'utf8',
      })
      expect([piped.stderr, piped.stdout.split(',')[0]], 'into what reads a line').to.eql(['', 'kind'])
      expect((await report()).stdout).to.match(/^Saved [\d,]+ of [\d,]+ calls/)
      expect((await report(...journal, '--wide')).stdout)
        .to.include('Keys   20 of')
        .and.include('GET /v2/stations/st-017/tides?day=')
      expect((await report(...journal, '--format', 'md')).stdout).to.include(`\`${first?.key}\``)
      expect((await report('--by', 'provider')).stdout)
        .to.include('skerrylight')
        .and.not.include('findVessel')
      const hours = (await report('--by', 'hour', '--format', 'csv')).stdout.trim().split('\r\n')
      expect(hours.filter((line) => line.startsWith('hour,'))).to.have.length(isLong ? 19 : 3)
      const [before, after] = ['2026-06-30T12:00..2026-06-30T13:00', '2026-06-30T13:00..2026-06-30T15:00']
      const both = JSON.parse((await report('--compare', before, after, '--json')).stdout) as { before: Report; after: Report }
      expect([both.before.since, both.after.since]).to.eql(['2026-06-30T10:00:00.000Z', '2026-06-30T11:00:00.000Z'])
      const text = (await report('--compare', before, after)).stdout
      expect(text).to.include('before  2026-06-30 12:00 to 2026-06-30 13:00 (Europe/Oslo), 1 h').and.include('all calls')
      await using stash = await openStash({ store: sqliteStore(file('demo.db')), mode: 'measure' })
      const [one, other] = await Promise.all(
        [before, after].map(async (range) => {
          const [since, until] = range.split('..').map((moment) => new Date(`${moment}+02:00`))
          return stash.report({ since, until })
        }),
      )
      const greens = (was?: Report, is?: Report) =>
        comparisonText({ before: was as Report, after: is as Report }, { colors: createColors(true), zone: 'Europe/Oslo' })
          .split('\n')
          .filter((line) => line.includes('after '))
          .map((line) => line.split(/ {2,}/).map((cell) => cell.startsWith('\u001b[32m')))
      const [forth, back] = [greens(one, other), greens(other, one)]
      expect(forth.flat().concat(back.flat()).filter(Boolean)).to.have.length.above(5)
      for (const [i, cells] of forth.entries())
        for (const [j, isGreen] of cells.entries()) expect(isGreen && back[i]?.[j], 'better than each other').to.equal(false)
      const wrong: [args: string[], words: string][] = [
        [['--by', 'key'], 'name it with --journal'],
        [['--journal', 'x'], 'does nothing without "--by key"'],
        [['--by', 'key', '--journal', file('none')], 'there is no file'],
        [['--compare', before], 'takes two ranges, not 1'],
        [['--compare', before, 'now'], '"now" is not a range'],
        [['--compare', before, after, '--by', 'hour'], 'leave out --since, --until and --by'],
        [['--compare', before, after, '--format', 'html'], 'printed as text or json'],
      ]
      for (const [args, words] of wrong) {
        const { code, stdout, stderr } = await report(...args)
        expect([code, stdout, stderr.trim().split('\n').length], args.join(' ')).to.eql([2, '', 1])
        expect(stderr).to.include(words)
      }
    })

    it('left a file whose report prints as one HTML page that needs nothing else', async () => {
      const print = async () => (await stashen('report', '--store', file('demo.db'), '--format', 'html', '--zone', 'Europe/Oslo')).stdout
      const page = await print()
      expect(page)
        .to.match(/^<!doctype html>\n<html lang="en">/)
        .and.match(/<\/html>\n$/)
      expect(page.match(/<svg role="img" aria-label="[^"]{20,}"/g)).to.have.length(6)
      expect(page)
        .to.include('<th scope="row">skerrylight.position</th>')
        .and.include('prefers-color-scheme:dark')
        .and.include('@media print')
      expect(page.replaceAll('http://www.w3.org/', ''), 'nothing is fetched').to.not.match(
        /\s(src|srcset|href|action|data|poster)=|@import|url\((?!#)|<(script|link|iframe|object|meta http)/,
      )
      expect(await print(), 'the same again').to.equal(page)
    })

    it('bills by the plans of the providers: base fee, allowance and tiers, and says what is covered in part', async () => {
      const report = JSON.parse((await stashen('report', '--store', file('demo.db'), '--json')).stdout) as Report
      const [ebbline] = report.providers
      expect(ebbline?.with?.money, 'four calls are within the allowance').to.eql([{ currency: 'EUR', amount: '19' }])
      expect(ebbline?.periods).to.eql([
        {
          currency: 'EUR',
          amount: '19',
          zone: 'Europe/Oslo',
          from: '2026-05-31T22:00:00.000Z',
          until: '2026-06-30T22:00:00.000Z',
          partial: true,
          dependsOnVolume: true,
        },
      ])
      const { upstream = 0, refused = 0, unmodified = 0 } = (ebbline?.without ?? {}) as Partial<Figures>
      const billed = upstream - refused - unmodified
      expect(ebbline?.without.money[0]?.amount).to.equal(String((19_000 + 4 * Math.max(0, billed - 1_000)) / 1_000))
    })

    it('left what the providers bill, in which reconciling finds no unexplained difference, and an injected one', async () => {
      const reconcile = async (provider: string, csv: string, ...more: string[]) =>
        await stashen('reconcile', csv, '--store', file('demo.db'), '--provider', provider, '--mode', 'reuse', ...more)
      for (const provider of ['ebbline', 'skerrylight', 'quayrate']) {
        const { code, stdout } = await reconcile(provider, file(`demo.db.${provider}-usage.csv`), '--zone', 'Europe/Oslo')
        expect([code, stdout]).to.satisfy(([exit, text]: [number, string]) => exit === 0 && /2026-06-30 .* agrees/.test(text), stdout)
      }
      const csv = readFileSync(file('demo.db.skerrylight-usage.csv'), 'utf8')
      writeFileSync(
        file('injected.csv'),
        csv.replace(/,(\d+)/, (_all, calls) => `,${Number(calls) + 30}`),
      )
      const injected = await reconcile('skerrylight', file('injected.csv'))
      expect(injected.code).to.equal(1)
      expect(injected.stdout).to.include('+30 unexplained')
      expect((await reconcile('skerrylight', file('injected.csv'), '--tolerance', '30')).code).to.equal(0)
      const json = JSON.parse((await reconcile('skerrylight', file('injected.csv'), '--json')).stdout) as { unexplained: number }
      expect(json.unexplained).to.equal(30)
      const [, ...days] = csv.trim().split('\n')
      const invoice = days
        .map((line) => line.split(','))
        .map(([day, calls]) => ({ Date: `${day}T00:00Z`, Cost: (Number(calls) / 100).toFixed(2) }))
      writeFileSync(file('invoice.json'), JSON.stringify(invoice))
      writeFileSync(
        file('columns.yaml'),
        'providers:\n  skerrylight:\n    usageExport: { day: Date, amount: Cost, zone: Europe/Oslo }\n    baseUrl: https://positions.skerrylight.example/v1\n',
      )
      const columns = ['--config', file('columns.yaml')]
      const agreed = await reconcile('skerrylight', file('invoice.json'), ...columns)
      expect([agreed.code, agreed.stdout]).to.satisfy(
        ([code, text]: [number, string]) => code === 0 && text.includes('by the plan: they agree\n'),
        agreed.stdout,
      )
      writeFileSync(file('invoice.json'), JSON.stringify([...invoice, { Date: '2026-06-30', Cost: '0.01' }]))
      const cent = await reconcile('skerrylight', file('invoice.json'), ...columns)
      expect([cent.code, cent.stderr], 'a cent more').to.eql([
        1,
        'stashen: the amounts of skerrylight differ by 0.01 in all, more than the tolerance of 0 %\n',
      ])
      const billed = days.reduce((sum, line) => sum + Number(line.split(',')[1]), 0) / 100
      writeFileSync(file('bill.csv'), `text;amount\nPositions, June;${(billed * 1.25).toFixed(2).replace('.', ',')}\n`)
      const bill = await reconcile(
        'skerrylight',
        file('bill.csv'),
        '--amount-column',
        'amount',
        '--decimal',
        'comma',
        '--period',
        '2026-06',
        '--tax',
        '25',
      )
      expect([bill.code, bill.stdout]).to.satisfy(
        ([code, text]: [number, string]) => code === 0 && text.includes('they agree'),
        bill.stdout,
      )
      const wrongs = [
        [['skerrylight', file('bill.csv'), '--period', 'June'], 'Give a month or the first and last day'],
        [['quayrate', file('injected.csv'), ...columns], 'knows no provider "quayrate"'],
        [['skerrylight', file('none.csv')], 'there is no file'],
        [['pintle', file('injected.csv')], 'knows no provider "pintle"'],
        [['skerrylight', file('injected.csv'), '--calls-column', 'requests'], 'no such column'],
        [['skerrylight', file('injected.csv'), '--tolerance', 'some'], 'from 0 to 100'],
      ] as const
      for (const [[provider, path, ...more], words] of wrongs) {
        const { code, stderr } = await reconcile(provider, path, ...more)
        expect([code, stderr]).to.satisfy(([exit, text]: [number, string]) => exit === 2 && text.includes(words), stderr)
      }
    })

    it('gives the same counts for the same seed, on a Redis server as in a file, and exactly those that the providers counted themselves', async () => {
      const redis = haveRedis('the demo day on a Redis server') ? await RedisServer.start() : undefined
      try {
        const again = redis ? [`${redis.url}?prefix=demo`] : [file('again.db')]
        const [since, until] = ['2026-06-30T13:00+02:00', '2026-06-30T13:20+02:00'].map((text) => Date.parse(text))
        const played: Report[] = []
        for (const store of [file('one.db'), ...again, ...(isLong ? again : [])]) {
          const calls = file('same-seed')
          const counts = await runDemo({ ...{ store, file: calls, seed: 7, since, until }, onStart() {}, onCalls() {} })
          rmSync(`${calls}.calls.jsonl`)
          const report = JSON.parse((await stashen('report', '--store', store, '--json')).stdout) as Report
          expect(providersCounts(counts.measure.counts)).to.eql(ledgerCounts(report, 'without'))
          expect(providersCounts(counts.reuse.counts)).to.eql(ledgerCounts(report, 'with'))
          played.push(report)
        }
        expect(played[0]?.totals.with?.asked).to.be.above(100)
        for (const report of played.slice(1)) expect(report).to.eql(played[0])
      } finally {
        await redis?.remove()
      }
    })

    it('replaces only the file of an earlier demo', async () => {
      const stash = await openStash({ store: sqliteStore(file('mine.db')) })
      await stash.operation('pintle.ask', async () => 1)()
      await stash.close()
      const before = readFileSync(file('mine.db'))
      const { code, stderr } = await stashen('demo', '--store', file('mine.db'))
      expect([code, stderr.trim().split('\n').length]).to.eql([2, 1])
      expect(stderr).to.include('"pintle"')
      expect(readFileSync(file('mine.db')).equals(before)).to.equal(true)
    })
  })

  if (isLong && haveTerminal('progress of commands'))
    it('shows on a terminal how far a command is that takes longer, leaves nothing of it there, and ends at once when it is interrupted', async () => {
      const server = createServer((_request, response) => void setTimeout(() => response.end('high'), 300))
      await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
      const base = `http://127.0.0.1:${(server.address() as { port: number }).port}`
      const endpoints = { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } }
      writeFileSync(file('slow.json'), JSON.stringify({ providers: { ebbline: { baseUrl: base, endpoints } } }))
      const urls = (count: number) => Array.from({ length: count }, (_, i) => `${base}/tides/${i}\n`).join('')
      writeFileSync(file('few.txt'), urls(9))
      writeFileSync(file('many.txt'), urls(400))
      const warm = (list: string) =>
        `${process.execPath} ${bin} warm ${file(list)} --at-once 1 --store ${file('slow.db')} --config ${file('slow.json')} --renew`
      const { stdout } = await promisify(execFile)(terminal, ['-qec', await warm('few.txt'), '/dev/null'])
      expect(stdout).to.match(/warming =+-+ [3-8] of 9, [12] s left/)
      expect(stdout.slice(stdout.lastIndexOf('warming'))).to.include('9 of 9 answers fetched and stored')
      for (const code of ['25', '7'])
        expect(stdout, 'nothing is changed that would have to be put right').to.not.include(`\u001b[?${code}l`)
      const interrupted = spawn(terminal, ['-qec', `timeout -s INT 2.5 ${await warm('many.txt')}`, '/dev/null'], { stdio: 'ignore' })
      const began = performance.now()
      await once(interrupted, 'exit')
      expect(performance.now() - began, 'in the middle of two minutes').to.be.below(20_000)
      server.closeAllConnections()
      server.close()
    }).timeout(60_000)

  it('stashen warm fetches in advance what a file or a journal names, once, and says what came of it', async () => {
    let calls = 0
    const server = createServer((request, response) => {
      calls++
      response.writeHead(request.url?.endsWith('broken') ? 500 : 200).end(request.headers['x-of'] ?? '')
    })
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
    const base = `http://127.0.0.1:${(server.address() as { port: number }).port}`
    const config = {
      providers: {
        ebbline: {
          baseUrl: base,
          endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour', holdOff: 0, keyedBy: { headers: [] } } },
        },
      },
    }
    writeFileSync(file('warm.json'), JSON.stringify(config))
    writeFileSync(
      file('urls.txt'),
      `${base}/tides/1\n\n{"url":"${base}/tides/2","headers":{"x-of":"2"}}\n${base}/tides/broken\n${base}/no\n`,
    )
    const on = ['--store', file('warm.db'), '--config', file('warm.json')]
    const warm = async (...args: string[]) => await stashen('warm', ...args, ...on)
    const first = await warm(file('urls.txt'), '--at-once', '1')
    expect([first.code, first.stderr]).to.eql([0, ''])
    expect(first.stdout).to.match(/^2 of 4 answers fetched and stored in \d+\.\d s\n/)
    for (const words of ['1 not stored: no-endpoint', '1 failed: answered with status 500']) expect(first.stdout).to.include(words)
    expect(calls).to.equal(3)
    expect((await warm(file('urls.txt'))).stdout).to.include('2 fresh already')
    expect(JSON.parse((await warm(file('urls.txt'), '--renew', '--json', '-H', 'x-of: all')).stdout)).to.include({ stored: 2, fresh: 0 })
    const path = file('warm.jsonl')
    writeFileSync(file('warm.jsonl.txt'), 'tides/1\n')
    await using stash = await openStash({ ...(config as object), journal: fileJournal(path) })
    for (let i = 0; i < 3; i++) await (await stash.fetch(`${base}/tides/9`)).text()
    await stash.close()
    expect((await warm('--most-used', '5', '--journal', path, '--since', 'yesterday')).stdout).to.include('1 of 1 answer fetched')
    for (const [args, ...words] of [
      [[], 'a file of URLs'],
      [[file('urls.txt'), '--most-used', '1'], 'or --most-used'],
      [['--most-used', '1'], 'needs --journal'],
      [['--most-used', '1', '--journal', file('no.jsonl')], 'there is no "'],
      [[file('no.txt')], 'there is no file'],
      [[file('warm.json')], 'an object with "url"'],
      [[file('warm.jsonl.txt')], 'line 1 of', 'is not an absolute URL'],
      [[file('urls.txt'), '--at-once', 'many'], 'a whole number'],
      [[file('urls.txt'), '--renew', 'soon'], '"renew" of warm is "soon"'],
      [[file('urls.txt'), '-H', 'nothing'], 'name and value'],
    ] as const) {
      const { code, stderr } = await warm(...args)
      expect(code, args.join(' ')).to.equal(2)
      for (const word of words) expect(stderr).to.include(word)
    }
    await new Promise((done) => server.close(done))
  }).timeout(120_000)

  it('stashen status says what limits leave, what is held off and how the store does; stashen forgive ends hold-offs', async () => {
    const path = file('status.db')
    let fails = false
    const stash = await openStash({
      store: sqliteStore(path),
      fetch: async () => new Response('{}', { status: fails ? 503 : 200 }),
      providers: {
        ebbline: {
          baseUrl: 'https://tides.ebbline.example/v2',
          limits: [{ calls: 30, per: 'minute' }, { atOnce: 4 }],
          endpoints: { tides: { request: 'GET /tides/{day}', freshFor: '1 min', holdOff: '1 hour' } },
        },
      },
    })
    for (const day of ['one', 'two', 'three']) {
      await stash.fetch(`https://tides.ebbline.example/v2/tides/${day}`)
      fails = day === 'two'
    }
    const own = await stash.status()
    expect(own.store).to.include({ trouble: null, writable: true, clockAheadMs: null, drops: null })
    await stash.close()
    const json = JSON.parse((await stashen('status', '--store', path, '--json')).stdout) as typeof own
    expect(json.providers[0]?.limits.map(({ limit, left }) => [limit, left])).to.eql([
      ['30 calls per minute', 27],
      ['4 at once', 4],
    ])
    expect(json.providers[0]?.holdOffs).to.eql(JSON.parse(JSON.stringify(own.providers[0]?.holdOffs)))
    const { code, stdout } = await stashen('status', '--store', path, '--zone', 'Europe/Oslo')
    expect(code).to.equal(0)
    for (const words of [
      /^store {2}works, 2 entries/m,
      /^ {7}SQLite 3\.[\d.]+, answers in [\d.]+ ms$/m,
      /30 calls per minute +27 of 30 left/,
      /hold-off +tides +held off +1 failure, until/,
      /last error .* tides: answered with status 503/,
    ]) {
      expect(stdout).to.match(words)
    }
    expect(await stashen('forgive', 'elbbine', '--store', path))
      .to.deep.include({ code: 2 })
      .and.have.property('stderr')
      .that.includes('elbbine')
    expect(await stashen('forgive', 'ebbline', '--store', path)).to.include({ code: 0 })
    const forgiven = JSON.parse((await stashen('status', '--store', path, '--json')).stdout) as typeof own
    expect(forgiven.providers[0]).to.deep.include({ holdOffs: [] }).and.have.property('limits').that.has.length(2)
    expect((await stashen('status', '--store', file('none.db'))).stderr).to.include('there is no file')
    const empty = sqliteStore(file('empty.db'))
    await (await openStash({ store: empty })).close()
    expect((await stashen('status', '--store', file('empty.db'))).stdout).to.include('no provider was called yet')
  })

  describe('stashen explain and check', () => {
    const harbour = fileURLToPath(new URL('../examples/harbour/stashen.config.js', import.meta.url))
    const tides = 'https://tides.ebbline.example/v2/stations/st-017/tides?day=2026-06-30'

    it('explain a request from a configuration and a store file, in which nothing is changed', async () => {
      const stash = await openStash({
        store: sqliteStore(file('explained.db')),
        providers,
        fetch: async () => Response.json({ tide: 'high' }),
      })
      await stash.fetch(tides)
      await stash.close()
      const before = readFileSync(file('explained.db'))
      const args = ['explain', tides, '--config', harbour, '--store', file('explained.db'), '--zone', 'Europe/Oslo']
      const text = await stashen(...args)
      expect(text).to.include({ code: 0, stderr: '' })
      for (const words of ['ebbline.tides, mode reuse', `GET ${tides}`, '15 bytes', 'answered from store', '(fresh)'])
        expect(text.stdout).to.include(words)
      const later = JSON.parse((await stashen(...args, '--json', '--at', '2099-01-01')).stdout) as Explanation
      expect(later).to.include({ endpoint: 'tides', would: 'call', reason: 'expired' })
      const search = await stashen(
        'explain',
        'post',
        'https://positions.skerrylight.example/v1/vessels/search?key=hush',
        '--body',
        '{}',
        '-H',
        'cookie: id=hush',
        '--config',
        harbour,
      )
      expect(search.stdout).to.include('skerrylight.search').and.include('body:').and.include('caller:').and.not.include('hush')
      expect(readFileSync(file('explained.db')).equals(before)).to.equal(true)
    })

    it('check prints the rules as they hold, and warns of what is likely wrong', async () => {
      const { code, stdout } = await stashen('check', '--config', harbour)
      expect(code).to.equal(0)
      expect(stdout)
        .to.include('keys: provider, endpoint and method count in every key')
        .and.include('credentials of skerrylight are recognised also by ?key')
      expect(stdout).to.match(/ebbline +tides +GET \/stations\/\{id\}\/tides +reuse +until 06:00 Europe\/Oslo +1 day +URL +by the plan/)
      expect(stdout).to.include('skerrylight: budget of EUR 14 per month: warns at 80%, gives older answers from 90%, stops at 100%')
      expect(stdout).to.include('quayrate: quota of 400 calls per day, by the calendar of Europe/Oslo')
      writeFileSync(
        file('likely.yaml'),
        `sets: { long: { freshFor: 2 days } }
providers:
  ebbline:
    baseUrl: https://tides.ebbline.example/v2
    secretQuery: [key]
    endpoints:
      all: { request: GET /all, set: long, keyedBy: { query: [] } }
      mine: { request: GET /mine, freshFor: 1 h, shared: true }
      up: { request: GET /../up }
      ask: { request: POST /graphql, safe: true, freshFor: 1 min }
      asked: { request: 'POST /v3/graphql', protocol: graphql, freshFor: 1 min, byName: { Tides: { freshFor: 1 h, limits: [{ calls: 3, per: hour }] } } }
      asks: { request: POST /v1/graphql, safe: true, freshFor: 1 min, failsWhen: { at: /errors } }
      calls: { request: POST /x, safe: true, freshFor: 1 min, keyedBy: { body: [/method, /params] } }
      twice: { request: 'GET /v2/tides/{id}', freshFor: 1 min }
      once: { request: 'GET /v22/tides/{id}', freshFor: 1 min }
`,
      )
      const { warnings } = JSON.parse((await stashen('check', '--json', '--config', file('likely.yaml'))).stdout) as {
        warnings: { path: string; message: string }[]
      }
      expect(warnings.map(({ path }) => path.split('.').at(-1))).to.eql(['all', 'mine', 'up', 'ask', 'asks', 'calls', 'twice'])
      expect(
        warnings
          .slice(3)
          .map(({ message }) => message)
          .join(),
      ).to.match(
        /errors.*stored, and whose writes.*protocol: "graphql".*whose writes.*"graphql".*"json-rpc".*repeats the path of "baseUrl", "\/v2"/,
      )
    })

    it('check, explain and measure name what splits keys without need, and the line that leaves it out', async () => {
      const server = await countingServer()
      const config = (fetching: object) => ({
        ...fetching,
        providers: { ebbline: { baseUrl: server.url, endpoints: { t: { request: 'GET /t', freshFor: '1 h' } } } },
      })
      writeFileSync(file('split.json'), JSON.stringify(config({ store: './split.db' })))
      const attempt = (i: number) => ({ headers: { 'x-attempt-no': `${i}` } })
      const stash = await openStash({ ...config({}), store: sqliteStore(file('split.db')), warn: () => {} } as StashConfig)
      for (let i = 0; i < 15; i++) await stash.fetch(`${server.url}/t`, attempt(i))
      await stash.close()
      const line = /x-attempt-no" of \S+ counts in its keys and never repeats: 14 .* except: \['x-attempt-no'\]/
      expect((await stashen('check', '--config', file('split.json'))).stdout).to.match(line)
      expect((await stashen('explain', `${server.url}/t`, '--config', file('split.json'))).stdout).to.match(line)
      const watched = Array.from({ length: 15 }, (_, i) => ({
        at: i,
        ms: 1,
        method: 'GET',
        origin: server.url,
        path: '/t',
        status: 200,
        bytes: 1,
        answer: `${i % 2}`,
        ...requestKey('s', { method: 'GET', url: new URL('/t', server.url), fields: Object.entries(attempt(i).headers), body: '' }),
      }))
      expect(trafficText(summaryOf(watched), { colors: createColors(false) })).to.match(line)
      server.close()
    })

    it('check tells every fault with its line and column, and of files that cannot be read at all', async () => {
      writeFileSync(
        file('wrong.yaml'),
        'providers:\n  ebbline:\n    baseUrl: tides\n    endpoints:\n      tides:\n        request: GET /t\n        freshFor: 1 fortnite\n',
      )
      const { code, stderr } = await stashen('check', '--config', file('wrong.yaml'))
      expect(code).to.equal(2)
      expect(stderr).to.include('3:14 providers.ebbline.baseUrl').and.include('7:19 providers.ebbline.endpoints.tides.freshFor')
      writeFileSync(file('twice.json'), '{ "providers": { "a": {},\n "a": {} } }')
      expect((await stashen('check', '--config', file('twice.json'))).stderr)
        .to.include('2:2')
        .and.include('unique')
      writeFileSync(file('empty.mjs'), 'export const x = 1')
      expect((await stashen('check', '--config', file('empty.mjs'))).stderr).to.include('default export')
      expect((await stashen('check', '--config', file('none.yaml'))).stderr).to.include('there is no file')
    })
  })

  it('prints help and version', async () => {
    for (const command of [['--help'], ['report', '--help'], ['demo', '--help']])
      expect(await stashen(...command)).to.include({ code: 0, stderr: '' })
    const { version } = JSON.parse(readFileSync(fileURLToPath(new URL('../../package.json', import.meta.url)), 'utf8'))
    expect((await stashen('--version')).stdout).to.equal(`${version}\n`)
    expect(await stashen()).to.deep.include({ code: 2, stdout: (await stashen('--help')).stdout })
  })

  /** Wrong calls, and words of the one line they get. */
  const wrong: [name: string, args: () => string[], ...words: string[]][] = [
    ['an unknown command', () => ['reprot'], 'reprot', 'Did you mean report?'],
    ['an unknown option', () => ['report', '--stor', 'x'], '--stor', '--store'],
    ['a missing option', () => ['reconcile', 'x'], '--provider', '--help'],
    ['no store', () => ['report'], '--store', 'configuration with a "store"'],
    ['a missing file', () => ['report', '--store', file('none.db')], 'there is no file', 'none.db'],
    ['a folder', () => ['report', '--store', file('folder')], 'is not a file'],
    ['a foreign file', () => ['report', '--store', file('text.db')], 'is not a Stashen store', 'text.db'],
    ['an empty file', () => ['report', '--store', file('empty.db')], 'is not a Stashen store'],
    ['a moment that is none', () => ['report', '--store', file('own.db'), '--since', 'soon'], '"soon"', 'ISO 8601'],
    ['a zone that is none', () => ['report', '--store', file('own.db'), '--zone', 'Kelpmouth'], '"Kelpmouth"', 'Europe/Oslo'],
    ['a URL that is none', () => ['explain', 'tides', '--config', 'x'], '"tides"', 'https'],
    [
      'a header that is none',
      () => ['explain', 'https://x.example', '-H', 'tides', '--config', 'x'],
      '"tides" is not a header field',
      '-H',
    ],
    ['a folder without configuration', () => ['check'], 'stashen.config.yaml', '--config'],
    ['a seed that is none', () => ['demo', '--seed', 'x'], "'x'", 'whole number'],
  ]
  for (const [name, args, ...words] of wrong) {
    it(`answers ${name} with one line and exit code 2`, async () => {
      if (!existsSync(file('folder'))) mkdirSync(file('folder'))
      writeFileSync(file('text.db'), 'not a store')
      writeFileSync(file('empty.db'), '')
      const own = await openStash({ store: sqliteStore(file('own.db')) })
      await own.operation('pintle.ask', async () => 1)()
      await own.close()
      const { code, stdout, stderr } = await stashen(...args())
      expect([code, stdout, stderr.trim().split('\n').length]).to.eql([2, '', 1])
      for (const word of words) expect(stderr).to.include(word)
    })
  }
})

/** Upstream calls by provider and endpoint, as [answered, refused, failed]. */
type UpstreamCounts = Record<string, [number, number, number]>

const endpointOf: Record<string, string> = {
  'GET /v2/stations': 'ebbline.findStation',
  'GET /v2/stations/:id': 'ebbline.station',
  'GET /v2/stations/:id/tides': 'ebbline.tides',
  'GET /v1/vessels': 'skerrylight.findVessel',
  'GET /v1/vessels/:id/position': 'skerrylight.position',
  'POST /v1/vessels/search': 'skerrylight.search',
  'GET /v1/tariffs/:harbour': 'quayrate.tariff',
  'GET /v1/quotes': 'quayrate.quote',
  'PUT /v1/tariffs/:harbour/notes': 'quayrate.note',
}

function providersCounts(counts: DayCounts): UpstreamCounts {
  const all = Object.values(counts).flatMap((byTemplate) => Object.entries(byTemplate))
  const called = all.filter(([, { answered, refused, failed }]) => answered + refused + failed > 0)
  return Object.fromEntries(
    called.map(([template, { answered, refused, failed }]) => [endpointOf[template] ?? template, [answered, refused, failed]]),
  )
}

function ledgerCounts(report: Report, side: 'without' | 'with'): UpstreamCounts {
  return Object.fromEntries(
    report.providers.flatMap(({ provider, endpoints }) =>
      endpoints.map((one) => {
        const {
          upstream = 0,
          refused = 0,
          failed = 0,
        } = (one[side] ?? {}) as { upstream?: number; refused?: number | null; failed?: number | null }
        return [`${provider}.${one.endpoint}`, [upstream - (refused ?? 0) - (failed ?? 0), refused ?? 0, failed ?? 0]]
      }),
    ),
  )
}
