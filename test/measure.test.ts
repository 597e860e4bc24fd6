import { spawn } from 'node:child_process'
import { readFileSync, writeFileSync } from 'node:fs'
import { get } from 'node:http'
import { fileURLToPath } from 'node:url'
import axios from 'axios'
import { expect } from 'chai'
import fc from 'fast-check'
import got from 'got'
import { memoryStore, openStash, type Stash } from 'stashen'
import { coverGlobally } from 'stashen/cover'
import { inferEndpoints } from '../src/core/traffic/infer-endpoints.js'
import type { SeenCall } from '../src/core/traffic/seen-call.js'
import { summaryOf, type TrafficSummary } from '../src/core/traffic/summary.js'
import { fittingLifetime, triedLifetimes, whatIf } from '../src/core/traffic/what-if.js'
import { ReplayAhead } from '../src/measure/replay-ahead.js'
import { starterConfig } from '../src/measure/starter-config.js'
import { stashen, stashenIn } from './support/command-line.js'
import { type CountingServer, countingServer } from './support/counting-server.js'
import { temporaryFolder } from './support/files.js'
import { isLong, scaled } from './support/scale.js'
import { noon } from './support/upstream.js'

const bin = fileURLToPath(new URL('../bin/stashen.js', import.meta.url))
const program = fileURLToPath(new URL('./support/calls.process.js', import.meta.url))

function seenCall(path: string, at: number, more: Partial<SeenCall> = {}): SeenCall {
  const [origin, method] = ['https://tides.ebbline.example', 'GET']
  return { ...{ origin, method, path, at, ms: 5, status: 200, bytes: 10, key: path, base: path, parts: [], answer: 'a' }, ...more }
}

describe('measuring a program', () => {
  const file = temporaryFolder()
  let server: CountingServer
  beforeEach(async () => {
    server = await countingServer()
  })
  afterEach(() => server.close())

  const run = (args: string[], options: { cwd?: string; kill?: NodeJS.Signals } = {}) =>
    new Promise<{ code: number | null; stdout: string; stderr: string }>((resolve) => {
      const child = spawn(process.execPath, args, { cwd: options.cwd ?? file(''), env: { ...process.env, NO_COLOR: '1' } })
      let [stdout, stderr] = ['', '']
      child.stdout.on('data', (data) => {
        stdout += data
        if (options.kill) child.kill(options.kill)
      })
      child.stderr.on('data', (data) => {
        stderr += data
      })
      child.once('close', (code) => resolve({ code, stdout, stderr }))
    })

  for (const client of isLong ? ['axios', 'got', 'fetch'] : ['got', 'fetch']) {
    it(`counts what the provider counts of a program on ${client}, changes nothing of it, and writes no credential`, async () => {
      const [store, config] = [file(`${client}.db`), file(`${client}.yaml`)]
      const measured = await run([
        bin,
        'measure',
        '--json',
        '--store',
        store,
        '--write',
        config,
        '--',
        process.execPath,
        program,
        client,
        server.url,
      ])
      expect(measured.code, 'the exit code of the program').to.equal(3)
      expect(measured.stdout, 'its output').to.equal('done\n')
      const summary = JSON.parse(measured.stderr.slice(0, measured.stderr.lastIndexOf('}') + 1)) as TrafficSummary
      const counted = new Map<string, number>()
      for (const { request, calls } of summary.providers[0]?.endpoints ?? []) counted.set(request, calls)
      const served = new Map<string, number>()
      for (const [name, count] of server.counts) {
        const template = name.replace('/v2', '').replace(/st-\d+|kelp-hush-4711/, '{id}')
        served.set(template, (served.get(template) ?? 0) + count)
      }
      expect(Object.fromEntries([...counted].sort())).to.eql(Object.fromEntries([...served].sort()))
      const first = await stashen('check', '--config', config)
      expect(first.stdout).to.include('no faults').and.to.include('GET /stations/{id}')
      const report = await stashen('report', '--store', store)
      expect(report.stdout).to.include(`of ${summary.calls} calls`).and.to.include('only measured')
      for (const written of [readFileSync(config, 'utf8'), readFileSync(store, 'latin1'), measured.stderr])
        expect(written).to.not.include('hush')
      const endpoints = new Map(summary.providers[0]?.endpoints.map((one) => [one.request, one]))
      const searches = { axios: 3, fetch: 6 }[client]
      if (searches) {
        const again = searches - 2 // for two vessels: the body counts
        expect(endpoints.get('POST /vessels/search')).to.include({ calls: searches, repeats: again, same: again })
      }
      if (client === 'got') {
        expect(endpoints.get('GET /stations/{id}/tides')).to.include({ repeats: 3, same: 0 }).and.not.have.property('fitting')
        expect(endpoints.get('GET /stations/{id}/tides')?.whatIf.map(({ saved, outdated }) => [saved, outdated])).to.eql(
          triedLifetimes.map(() => [3, 3]),
        )
        expect(endpoints.get('GET /down')?.failed).to.equal(server.counts.get('GET /v2/down'))
      }
      if (client === 'axios') {
        expect(endpoints.get('GET /refused')?.refused).to.equal(1)
        expect(endpoints.get('GET /broken')).to.include({ calls: 1, bytes: 4, same: 0 })
      }
    })
  }

  it('passes signals on, says what cannot be run, and overwrites nothing', async () => {
    const waits = `fetch('${server.url}/v2/stations/st-1').then((r) => r.text()).then(() => console.log('now')); setInterval(() => {}, 1000)
process.once('SIGTERM', () => process.exit(7))`
    const ended = await run([bin, 'measure', '--', process.execPath, '-e', waits], { kill: 'SIGTERM' })
    expect(ended.code).to.equal(7)
    expect(ended.stderr).to.include('1 call to 1 API')
    writeFileSync(file('mine.yaml'), 'mine')
    for (const [args, words] of [
      [['--', 'nosuchprogram'], '"nosuchprogram" cannot be run'],
      [['--write', 'mine.yaml', '--', process.execPath, '-e', '1'], '"mine.yaml" exists'],
      [[], 'missing required argument'],
      [['--store', 'mine.yaml', '--', process.execPath, '-e', 'console.log(1)'], 'is not a Stashen store'],
    ] as const) {
      const { code, stdout, stderr } = await stashenIn(file(''), 'measure', ...args)
      expect([code, stderr.includes(words)], stderr).to.eql([2, true])
      expect(stdout, 'nothing ran').to.equal('')
    }
    expect(readFileSync(file('mine.yaml'), 'utf8')).to.equal('mine')
    const command = `"$0" "$1" measure --store unread.db -- "$0" -e "fetch('${server.url}/v2/stations/st-1').then((r) => r.text())" 2>&1 | head -1`
    await new Promise((resolve) => spawn('bash', ['-c', command, process.execPath, bin], { cwd: file('') }).once('close', resolve))
    expect((await stashenIn(file(''), 'report', '--store', 'unread.db')).stdout, 'whether or not it is read').to.include('of 1 calls')
    expect((await run([bin, 'measure', '--', process.execPath, '-e', '1'])).stderr).to.include('no HTTP call was seen')
    const faked = `Date.now = () => 0; performance.now = () => 7; fetch('${server.url}/v2/stations/st-1').then((r) => r.text())`
    const http2 = `require('node:http2').connect('${server.url}').on('error', () => {}).close()`
    const both = (await run([bin, 'measure', '--json', '--', process.execPath, '-e', `${faked}; ${http2}`])).stderr
    const byTrueTime = JSON.parse(`${both.split('\n}\n')[0]}}`) as TrafficSummary
    expect(byTrueTime.providers[0]?.endpoints[0]?.medianMs, 'whatever clock the program has').to.be.above(0)
    expect(both).to.include(`1 connection to ${server.url} went through node:http2`)
  })

  it('follows processes that are started with an environment of their own', async () => {
    const call = (n: number) => `fetch('${server.url}/v2/stations/st-${n}').then((r) => r.text())`
    const starts = `import('node:child_process').then(({ spawn, execFileSync }) => {
  execFileSync(process.execPath, ['-e', ${JSON.stringify(call(1))}], { env: {} })
  spawn(process.execPath, ['-e', ${JSON.stringify(call(2))}], { env: { NODE_OPTIONS: '--no-deprecation' } })
  spawn(process.execPath, ['-e', ${JSON.stringify(call(3))}])
})`
    const { stderr } = await run([bin, 'measure', '--json', '--', process.execPath, '-e', starts])
    expect(stderr).to.match(/"calls": 3,/)
    expect(server.counts.size).to.equal(3)
  })

  it('says what reuse would have saved as a stash says that measured the same calls', async () => {
    const call = fc.record({
      after: fc.integer({ min: 6, max: 20_000 }),
      id: fc.nat(2),
      answer: fc.nat(1),
      status: fc.constantFrom(200, 200, 200, 500),
    })
    await fc.assert(
      fc.asyncProperty(fc.array(call, { maxLength: 40 }), async (all) => {
        let now = noon
        const clock = { now: () => now, ticks: () => now, later: () => () => {} }
        let at = noon
        const seen = all.map(({ after, id, answer, status }) => {
          at += after
          return seenCall(`/stations/${id}`, at, { answer: `${answer}`, status, ms: 0 })
        })
        let next: SeenCall | undefined
        await using stash = await openStash({
          ...{ clock, mode: 'measure' },
          fetch: async () => new Response(next?.answer ?? '', { status: next?.status ?? 200 }),
          providers: {
            ebbline: {
              baseUrl: 'https://tides.ebbline.example',
              endpoints: { station: { request: 'GET /stations/{id}', freshFor: '10 s', holdOff: 0 } },
            },
          },
        })
        for (const one of seen) {
          now = one.at
          next = one
          await (await stash.fetch(`${one.origin}${one.path}`)).text()
        }
        const { couldSave } = (await stash.report()).totals
        expect(whatIf(seen, '10 s').saved).to.equal(couldSave?.upstreamCalls ?? 0)
      }),
      { numRuns: scaled(10) },
    )
  })

  it('counts ahead, while the program runs, what it counts at its end', async () => {
    const call = fc.record({
      after: fc.integer({ min: 1, max: 9_000 }),
      ms: fc.constantFrom(1, 5, 700, 30_000),
      id: fc.nat(9),
      kind: fc.nat(2),
      answer: fc.nat(1),
    })
    await fc.assert(
      fc.asyncProperty(fc.array(call, { minLength: 1, maxLength: 60 }), fc.boolean(), async (all, isSteady) => {
        let at = noon
        const seen = all.map(({ after, ms, id, kind, answer }) => {
          at += after
          if (isSteady) return seenCall('/quotes', at, { ms }) // whose rules change with the time alone
          const path = [`/stations/${id}`, '/quotes', `/vessels/v-${id}/port`][kind] as string
          return seenCall(path, at, { ms, answer: `${answer}`, status: id === 7 ? 429 : 200 })
        })
        const inOrderOfEnds = [...seen].sort((a, b) => a.at + a.ms - b.at - b.ms)
        const rowsOf = async (ahead: ReplayAhead) => {
          const store = Object.assign(memoryStore(), { close() {} })
          await ahead.finish(inOrderOfEnds, starterConfig(summaryOf(inOrderOfEnds)), store, () => {})
          const rows = await store.ledger.read({ since: 0, until: Number.MAX_SAFE_INTEGER })
          return rows.map((row) => JSON.stringify(row)).sort()
        }
        const ahead = new ReplayAhead()
        for (let ended = 1; ended <= seen.length; ended++) {
          await ahead.step(inOrderOfEnds.slice(0, ended))
          await new Promise((resolve) => setTimeout(resolve, 1)) // it rests
        }
        expect(await rowsOf(ahead)).to.eql(await rowsOf(new ReplayAhead()))
      }),
      { numRuns: scaled(10) },
    )
  })

  it('proposes the longest lifetime that saved calls, misled nobody, and was watched for as long', () => {
    const tried = (...all: [saved: number, outdated: number][]) =>
      all.map(([saved, outdated], i) => ({ lifetime: ['10 s', '1 min', '1 h', '1 day'][i] as string, saved, savedMs: 0, outdated }))
    for (const [all, watchedMs, fitting] of [
      [tried([1, 0], [2, 0], [3, 0], [4, 0]), 86_400_000, '1 day'],
      [tried([1, 0], [2, 0], [3, 0], [4, 0]), 86_399_999, '1 h'],
      [tried([1, 0], [2, 0], [3, 1], [4, 2]), 86_400_000, '1 min'],
      [tried([1, 0], [2, 0], [2, 0], [2, 0]), 1_000, '10 s'],
      [tried([0, 0], [0, 0], [0, 0], [0, 0]), 86_400_000, undefined],
      [tried([1, 1], [2, 1], [3, 1], [4, 1]), 86_400_000, undefined],
    ] as const)
      expect(fittingLifetime(all, watchedMs)?.lifetime).to.equal(fitting)
  })

  it('tells endpoints by the parts of paths that change', () => {
    const paths: [paths: string[], templates: string[]][] = [
      [
        ['/v2/stations/st-017', '/v2/stations/st-018', '/v2/stations', '/v2/stations/search'],
        ['GET /stations', 'GET /stations/search', 'GET /stations/{id}'],
      ],
      [['/v2/stations/kelpmouth', '/v2/stations/st-1'], ['GET /stations/{id}']],
      [['/stations/kelpmouth', '/stations/skerry', '/stations/ebb'], ['GET /stations/{id}']],
      [
        ['/stations/kelpmouth/tides', '/stations/kelpmouth/berths'],
        ['GET /stations/kelpmouth/berths', 'GET /stations/kelpmouth/tides'],
      ],
      [['/v1/stations/7/tides/2026-06-30', '/v1/stations/8/tides/2026-07-01'], ['GET /stations/{id}/tides/{date}']],
      [['/a/1/b/2/c/3'], ['GET /a/{id}/b/{bId}/c/{cId}']],
      [
        ['/', '/api'],
        ['GET /', 'GET /api'],
      ],
      [
        ['/{x}/*', '/%20/y', '/a b'],
        ['GET /{id}', 'GET /{id}/y', 'GET /{id}/{itemId}'],
      ],
      [[`/${'x/'.repeat(500)}`], [`GET /${'x/'.repeat(12)}*`]],
    ]
    for (const [some, templates] of paths) {
      const [provider] = inferEndpoints(some.map((path, i) => seenCall(path, noon + i)))
      const names = provider?.endpoints.map(({ name }) => name) ?? []
      expect(provider?.endpoints.map(({ request }) => request).sort(), some.join()).to.eql(templates)
      expect(new Set(names).size, names.join()).to.equal(names.length)
      for (const name of names) expect(name).to.match(/^[A-Za-z][\w-]*$/)
    }
    const hosts = [
      'https://tides.ebbline.example',
      'https://api.ebbline.example',
      'http://127.0.0.1:80',
      'http://[::1]:8080',
      'http://7seas.example',
      'http://localhost',
    ]
    const names = inferEndpoints(hosts.map((origin, i) => seenCall('/', noon + i, { origin }))).map(({ name }) => name)
    expect(names).to.eql(['ebbline', 'api-ebbline-example', 'local', 'local-8080', 'api-7seas', 'localhost'])
    expect(summaryOf([])).to.deep.include({ calls: 0, watchedMs: 0, providers: [] })
  })

  it('opens a stash for what it wrote, whatever was seen', async () => {
    const path = fc.array(
      fc.oneof(fc.string({ maxLength: 8 }), fc.constantFrom('v2', 'stations', 'st-017', '{id}', '*', '..', '%2F', '7')),
      { maxLength: 6 },
    )
    const { starterConfig } = await import('../src/measure/starter-config.js')
    await fc.assert(
      fc.asyncProperty(fc.array(fc.tuple(path, fc.constantFrom('GET', 'POST', 'QUERY', 'HEAD')), { maxLength: 12 }), async (seen) => {
        const calls = seen.map(([parts, method], i) =>
          seenCall(new URL(`https://h.example/${parts.join('/')}`).pathname, noon + i, { method }),
        )
        const stash = await openStash(starterConfig(summaryOf(calls)))
        for (const { method, path: one } of calls)
          expect(stash.covers(method, `https://tides.ebbline.example${one}`), one).to.not.equal(undefined)
        await stash.close()
      }),
      { numRuns: scaled(30) },
    )
  })

  it('covers a whole program through fetch, node:http and what is made on it, until that is undone', async () => {
    const warnings: string[] = []
    const endpoints = {
      station: { request: 'GET /stations/{id}', freshFor: '1 min' },
      search: { request: 'POST /vessels/search', safe: true, freshFor: '1 min' },
      refused: { request: 'GET /refused', freshFor: '1 min', holdOff: 0 },
    } as const
    await using stash = await openStash({
      providers: {
        ebbline: { baseUrl: `${server.url}/v2`, endpoints },
        down: { baseUrl: 'http://127.0.0.1:12399', endpoints: { x: { request: 'GET /x', freshFor: '1 min', holdOff: 0 } } },
      },
    })
    const { fetch } = globalThis
    let closed: Stash
    const uncover = await coverGlobally(stash, { warn: (message) => void warnings.push(message) })
    try {
      for (let i = 0; i < 3; i++) {
        expect((await axios.get(`${server.url}/v2/stations/st-1`)).data.path).to.equal('/v2/stations/st-1')
        expect(await got(`${server.url}/v2/stations/st-2`).json()).to.deep.include({ path: '/v2/stations/st-2' })
        expect(await (await globalThis.fetch(`${server.url}/v2/stations/st-3`)).json()).to.deep.include({ path: '/v2/stations/st-3' })
        expect((await axios.post(`${server.url}/v2/vessels/search`, { name: 'Skerry' })).data.path).to.equal('/v2/vessels/search')
        expect((await axios.get(`${server.url}/v2/moved`, { maxRedirects: 0, validateStatus: null })).status).to.equal(302)
      }
      expect((await axios.get(`${server.url}/v2/refused`, { validateStatus: null })).status).to.equal(429)
      const failed = (url: string) => axios.get(url).catch((error: { code?: string }) => error.code)
      expect([await failed('http://127.0.0.1:12399/x'), await failed('http://127.0.0.1:12399/y')]).to.eql(['ECONNREFUSED', 'ECONNREFUSED'])
      await Promise.all(Array.from({ length: 20 }, () => got(`${server.url}/v2/stations/st-4`).json()))
      const left = new Promise((resolve) => {
        const request = get(`${server.url}/v2/stations/st-5`, () => request.destroy())
        request.once('close', resolve)
      })
      await left
      expect(warnings).to.eql([])
      await (await fetch(`${server.url}/v2/stations/st-3`)).text()
      await (await fetch(`${server.url}/v2/stations/st-3`)).text()
      expect(warnings.join()).to.match(/^calls to 127\.0\.0\.1:\d+ went through undici, or a fetch taken before it was covered/)
      expect(warnings).to.have.length(1)
      closed = await openStash({ providers: { ebbline: { baseUrl: `${server.url}/v2`, endpoints } } })
      const uncoverClosed = await coverGlobally(closed)
      await closed.close()
      expect((await globalThis.fetch(`${server.url}/v2/stations/st-6`)).status).to.equal(200)
      expect((await axios.get(`${server.url}/v2/stations/st-7`)).status).to.equal(200)
      uncoverClosed()
    } finally {
      uncover()
    }
    expect(globalThis.fetch).to.equal(fetch)
    await axios.get(`${server.url}/v2/stations/st-1`)
    const served = Object.fromEntries(server.counts)
    expect(served).to.include({
      'GET /v2/stations/st-1': 2,
      'GET /v2/stations/st-2': 1,
      'GET /v2/stations/st-3': 3,
      'GET /v2/stations/st-4': 1,
    })
    expect(served).to.include({ 'POST /v2/vessels/search': 1, 'GET /v2/moved': 3, 'GET /v2/refused': 1 })
    expect((await stash.report()).totals.with?.asked, 'the two of the closed one went on to this one').to.equal(3 * 4 + 1 + 1 + 20 + 1 + 2)
  })

  it('begins from an OpenAPI document, and says what rules cover of it', async () => {
    const openapi = `openapi: 3.1.0
info: { title: Ebbline }
servers: [{ url: 'https://tides.ebbline.example/v2' }]
components: { parameters: { day: { name: day, in: query } } }
paths:
  /stations: { get: { operationId: findStations, parameters: [{ name: name, in: query }] } }
  /stations/{station-id}: { get: {}, put: { operationId: changeStation } }
  /stations/{station-id}/tides: { parameters: [{ $ref: '#/components/parameters/day' }], get: { parameters: [{ name: Prefer, in: header }] } }
  /charts/{zoom}-{name}.png: { get: {} }
  /vessels/search: { post: {} }
  /odd/*/path: { get: {} }
`
    writeFileSync(file('tides.yaml'), openapi)
    const check = async (...args: string[]) => (await stashenIn(file(''), 'check', '--openapi', 'tides.yaml', ...args)).stdout
    const first = await check('--json')
    const { operations, proposal } = JSON.parse(first) as { operations: { coveredBy: string | null }[]; proposal: string }
    expect(operations.map(({ coveredBy }) => coveredBy)).to.eql(Array(7).fill(null))
    expect(proposal).to.include('?day, Prefer').and.to.include('safe: true').and.not.to.include('PUT')
    writeFileSync(file('proposed.yaml'), proposal)
    expect(await check('--config', 'proposed.yaml')).to.match(/7 operations, 5 covered/)
    for (const [name, text, words] of [
      ['none.yaml', undefined, 'there is no file'],
      ['other.yaml', 'swagger: "2.0"', 'is not an OpenAPI 3 document'],
      ['broken.yaml', 'a: [', 'is neither YAML nor JSON'],
    ] as const) {
      if (text !== undefined) writeFileSync(file(name), text)
      const { code, stderr } = await stashenIn(file(''), 'check', '--openapi', name)
      expect([code, stderr.includes(words)], stderr).to.eql([2, true])
    }
  })

  it('tries a URL in every way, and keeps its answer to be looked at', async () => {
    const tried = async (...args: string[]) => JSON.parse((await stashenIn(file(''), 'try', '--json', ...args)).stdout)
    const url = `${server.url}/v2/stations/st-017`
    const { steps, load, upstreamCalls } = await tried(url, '--times', '30', '--at-once', '3')
    expect(steps.map(({ name, how, reason }: Record<string, string>) => [name, how, reason])).to.eql([
      ['bare', undefined, undefined],
      ['first', 'forwarded', 'absent'],
      ['again', 'hit', 'fresh'],
      ['expired', 'forwarded', 'expired'],
      ['cut-off', 'stale', 'upstream-failed'],
    ])
    expect([load.calls, load.failed, upstreamCalls, server.counts.get('GET /v2/stations/st-017')]).to.eql([30, 0, 4, 4])
    expect((await stashenIn(file(''), 'entries', '--json', '--store', 'stashen-try.db')).stdout).to.include('/v2/stations/st-017')
    writeFileSync(
      file('rules.yaml'),
      `providers: { ebbline: { baseUrl: '${server.url}/v2', endpoints: { refused: { request: GET /refused, freshFor: 1 min } } } }`,
    )
    const refused = await tried(`${server.url}/v2/refused`, '--config', 'rules.yaml', '--store', 'refused.db')
    expect(refused).to.include({ endpoint: 'ebbline.refused', notStored: 'status' })
    for (const [args, words] of [
      [['nowhere'], 'is not an absolute URL'],
      [[url, '--config', 'rules.yaml'], 'no endpoint of'],
      [[url, '--fresh-for', '60'], '"60" has no unit (60 what?)'],
      [[url, '--times', '0'], 'is not a number of calls for --times'],
      [[url, '-H', 'accept'], 'is not a header field'],
    ] as const) {
      const { code, stderr } = await stashenIn(file(''), 'try', ...args)
      expect([code, stderr.includes(words)], stderr).to.eql([2, true])
    }
  })
})
