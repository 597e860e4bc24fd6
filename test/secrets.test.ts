import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { inspect } from 'node:util'
import { context, metrics, trace } from '@opentelemetry/api'
import { AsyncLocalStorageContextManager } from '@opentelemetry/context-async-hooks'
import { AggregationTemporality, InMemoryMetricExporter, MeterProvider, PeriodicExportingMetricReader } from '@opentelemetry/sdk-metrics'
import { BasicTracerProvider, InMemorySpanExporter, SimpleSpanProcessor } from '@opentelemetry/sdk-trace-base'
import { expect } from 'chai'
import { type EventName, openStash, type ProviderOptions } from 'stashen'
import { fileJournal } from 'stashen/journal'
import { logEvents, prometheusText, traceCalls } from 'stashen/observers'
import { sqliteStore } from 'stashen/sqlite'
import { ambiguousNames, credentialNames } from '../src/core/rules/credentials.js'
import { fieldsLeftOut } from '../src/core/rules/fields-left-out.js'
import { selectingFields } from '../src/core/rules/keying.js'
import { stashenIn } from './support/command-line.js'
import { temporaryFolder } from './support/files.js'

const base = 'https://tides.ebbline.example/v2'

/** One secret for each place, so that a leak names the place that it came from; in forms that texts repeat. */
const canary = (place: string) => `SESAME-${place}-0pen`

const fields: Record<string, string> = {
  authorization: `Bearer ${canary('bearer')}`,
  cookie: `theme=dark; crew=${canary('cookie')}`,
  'proxy-authorization': `Basic ${btoa(`harbour:${canary('basic')}`)}`,
  'X-API-Key': canary('x-api-key'),
  apikey: canary('apikey'),
  'X-Amz-Security-Token': canary('amz'),
  'X-Auth-Token': canary('x-auth-token'),
}
const query = [
  ...['api_key', 'ApiKey', 'access_token', 'token', 'sig', 'X-Amz-Signature', 'key', 'auth'].map((name) => `${name}=${canary(name)}`),
  `day=1#token=${canary('fragment')}`,
].join('&')

const endpoints: ProviderOptions['endpoints'] = {
  keyed: {
    request: 'GET /keyed/{id}',
    freshFor: '1 hour',
    keyedBy: { headers: ['Authorization', 'X-Api-Key', 'Cookie', 'Proxy-Authorization'], cookies: ['crew'] },
    per: ({ header }) => `tenant of ${header('x-api-key')}`,
    countBy: 'per',
  },
  said: {
    request: 'GET /said/{id}',
    freshFor: '1 hour',
    keyedBy: ({ url, header }) => ({ url: url.href, who: header('authorization'), at: url.pathname }),
  },
  shared: { request: 'GET /shared/{id}', freshFor: '1 hour', shared: true },
  tides: { request: 'GET /tides/{id}', freshFor: '1 min', staleIfError: '1 day', holdOff: 0 },
  watched: { request: 'GET /watched/{id}', freshFor: '1 hour', mode: 'measure' },
}

describe('secrets', () => {
  const file = temporaryFolder()

  it('planted in every place of requests and answers appear nowhere in anything that is written, told or printed', async () => {
    const written: [where: string, what: string][] = []
    const tell = (where: string) => (what: unknown) => void written.push([where, inspect(what, { depth: 12, showHidden: true })])
    const spans = new InMemorySpanExporter()
    trace.setGlobalTracerProvider(new BasicTracerProvider({ spanProcessors: [new SimpleSpanProcessor(spans)] }))
    context.setGlobalContextManager(new AsyncLocalStorageContextManager().enable())
    const exporter = new InMemoryMetricExporter(AggregationTemporality.CUMULATIVE)
    const reader = new PeriodicExportingMetricReader({ exporter, exportIntervalMillis: 3_600_000 })
    metrics.setGlobalMeterProvider(new MeterProvider({ readers: [reader] }))
    const log = (...words: unknown[]) => tell('log')(words)
    let received = 0
    const fetch: typeof globalThis.fetch = async (input, init) => {
      received++
      const { url, headers } = new Request(String(input).replace(/:\/\/[^/]*@/, '://'), { ...init, signal: null })
      const echo = [...headers].map(([name, value]) => `${name}: ${value}`).join('; ')
      if (url.includes('/gone')) throw new TypeError(`fetch of ${url} failed`, { cause: new Error(`${input} with ${echo}`) })
      if (url.includes('/broken')) {
        const error = new Error(`the socket of ${url} closed`)
        return new Response(new ReadableStream({ start: (controller) => controller.error(error) }))
      }
      const signed = `${base}/files/1?X-Amz-Signature=${canary('redirect')}&part=2#access_token=${canary('token-of-redirect')}`
      return new Response(url.includes('/watched') ? `{"level":${received}}` : '{"level":3.1}', {
        status: url.includes('/503') ? 503 : 200,
        headers: {
          'content-type': 'application/json',
          vary: 'Authorization, X-Api-Key, Cookie, Accept-Language',
          'content-location': url.replace('://', `://harbour:${canary('userinfo-of-answer')}@`),
          link: url.includes('/watched')
            ? '</next>; rel="next"'
            : url.includes('/signed')
              ? `<${signed}>; rel="next"`
              : `<${url}&page=2>; rel="next"`,
          'x-echo': echo,
          'x-session-token': canary('handed-out'),
        },
      })
    }
    const stash = await openStash({
      ...{ store: sqliteStore(file('secret.db')), journal: fileJournal(file('calls.jsonl')), fetch, warn: tell('warning') },
      providers: { ebbline: { baseUrl: base, endpoints, plan: { currency: 'EUR', perCall: '0.01' } } },
    })
    const names = [
      'call',
      'upstream',
      'stale',
      'limited',
      'retry',
      'hold-off',
      'recovered',
      'store-trouble',
      'corrupt-entry',
      'not-stored',
      'evicted',
      'budget',
    ] as const
    for (const name of names) stash.on(name as EventName, tell(`event ${name}`))
    logEvents(stash, { debug: log, info: log, warn: log, error: log } as never, { calls: true })
    traceCalls(stash)
    const ask = async (path: string, init: RequestInit = {}) => {
      const url = `${base.replace('://', `://harbour:${canary('userinfo')}@`)}${path}?${query}`
      try {
        const response = await stash.fetch(url, { headers: fields, ...init })
        await response.text()
        tell(`headers of a ${stash.outcomeOf(response)?.how}`)(stash.outcomeOf(response)?.how === 'hit' ? [...response.headers] : '')
        tell('outcome')(stash.outcomeOf(response))
      } catch (error) {
        tell('error')(error)
        tell('stack')((error as Error).stack)
        tell('outcome of an error')(stash.outcomeOf(error))
      }
    }
    // biome-ignore format: many words a line
    for (const path of [
      '/keyed/1', '/said/1', '/shared/1', '/tides/1', '/tides/signed', '/tides/503', '/tides/gone', '/tides/broken', '/other/gone', '/watched/1'
    ])
      for (let times = 0; times < 2; times++) await ask(path)
    await ask('/tides/1', { method: 'POST', body: 'x' })
    for (const path of ['/keyed/1', '/tides/1', '/nothing'])
      tell('explanation')(await stash.explain(`${base}${path}?${query}`, { headers: fields }))
    tell('report')(await stash.report({ by: 'key' }))
    tell('status')(await stash.status())
    tell('metrics')(prometheusText(await stash.report()))
    await reader.forceFlush()
    tell('exported metrics')(exporter.getMetrics())
    tell('spans')(spans.getFinishedSpans().map(({ name, attributes, events, status }) => ({ name, attributes, events, status })))
    const outcome = stash.outcomeOf(await stash.fetch(`${base.replace('://', '://harbour:x@')}/tides/1?${query}`, { headers: fields }))
    expect(outcome?.how, 'another userinfo is another caller').to.equal('forwarded')
    await stash.close()
    writeFileSync(
      file('stashen.config.json'),
      JSON.stringify({
        providers: { ebbline: { baseUrl: base, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 min' } } } },
      }),
    )
    const run = async (...args: string[]) => {
      const { stdout, stderr } = await stashenIn(file('.'), ...args)
      written.push([`stashen ${args[0]}`, stdout + stderr])
    }
    await run('explain', `${base}/tides/1?${query}`, '--store', file('secret.db'))
    await run('report', '--store', file('secret.db'), '--by', 'key', '--journal', file('calls.jsonl'))
    for (const format of ['md', 'csv', 'html']) await run('report', '--store', file('secret.db'), '--format', format)
    await run('status', '--store', file('secret.db'))
    expect(written.find(([where, text]) => where === 'stashen report' && text.includes('outdated'))?.[1]).to.include('/watched/1')
    for (const name of readdirSync(file('.'))) if (!name.endsWith('.json')) written.push([name, readFileSync(file(name), 'latin1')])
    trace.disable()
    context.disable()
    metrics.disable()
    expect(received, 'some were answered from store').to.be.within(10, 24)
    expect(written.length).to.be.above(60)
    const leaks = written.flatMap(([where, text]) =>
      [...text.matchAll(/SESAME-([\w-]*?)-0pen/g)].map(([, place]) => `${place} in ${where}`),
    )
    expect([...new Set(leaks)]).to.eql([])
    for (const coded of [btoa(`harbour:${canary('basic')}`), encodeURIComponent(canary('key'))])
      expect(written.filter(([, text]) => text.includes(coded)).map(([where]) => where)).to.eql([])
  })

  it('are recognised by name, however it is spelt, and the list can be extended and reduced', async () => {
    const page = readFileSync('docs/keys.md', 'utf8')
    for (const name of [...credentialNames, ...ambiguousNames, ...selectingFields, ...fieldsLeftOut]) expect(page).to.include(`\`${name}\``)
    const warnings: string[] = []
    const asked: string[] = []
    const endpoints = {
      get: { request: 'GET /get/{id}', freshFor: '1 hour', keyedBy: { query: ['day'] } },
      open: { request: 'GET /open/{id}', freshFor: '1 hour', shared: true },
    } as const
    await using stash = await openStash({
      fetch: async (input) => new Response(`${asked.push(String(input))}`),
      warn: (message) => void warnings.push(message),
      providers: {
        ebbline: { baseUrl: base, endpoints, secretQuery: ['pin'], secretHeaders: ['X-Crew'], notSecret: ['key', 'X_Session_Id'] },
      },
    })
    const get = async (path: string, headers: Record<string, string> = {}) => (await stash.fetch(base + path, { headers })).text()
    // biome-ignore format: many words a line
    const rows: [query: string, field: string | undefined, apart: boolean][] = [
      ['pin', undefined, true], ['PIN', undefined, true], ['Api-Key', undefined, true], ['x-amz-anything', undefined, true],
      ['key', undefined, false], ['', 'x-crew', true], ['', 'X-ApiKey', true], ['', 'x-amz-date', true], ['', 'x-session-id', true],
      ['', 'x-author', true], ['', 'x-crew-token', true], ['crew_token', undefined, true], ['author', undefined, false],
    ]
    for (const [i, [name, field, apart]] of rows.entries()) {
      const ask = (value: string) =>
        get(`/get/${i}?${name === '' ? '' : `${name}=${value}`}`, field === undefined ? {} : { [field]: value })
      const [one, other, again] = [await ask('one-value'), await ask('other-value'), await ask('one-value')]
      expect([one !== other, one === again], `${name}${field ?? ''}`).to.eql([apart, true])
    }
    for (const pin of ['1', '2']) await get(`/open/1?pin=${pin}`)
    expect(warnings, 'shared, though callers say who they are, once').to.have.length(1)
    expect(warnings[0]).to.include('ebbline.open is "shared"').and.include('?pin')
  })

  it('that differ each time, as signatures do, leave it to a function to say who calls', async () => {
    let calls = 0
    await using stash = await openStash({
      fetch: async () => new Response(`${++calls}`),
      warn: () => {},
      providers: {
        ebbline: {
          baseUrl: base,
          caller: ({ header }) => /Credential=([^,/]+)/.exec(header('authorization') ?? '')?.[1] ?? (undefined as never),
          endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } },
        },
      },
    })
    const ask = async (credential: string, signature: string) => {
      const headers = { authorization: `AWS4-HMAC-SHA256 Credential=${credential}/now, Signature=${signature}`, 'x-amz-date': signature }
      const response = await stash.fetch(`${base}/tides/1`, { headers })
      return [await response.text(), stash.outcomeOf(response)?.how]
    }
    expect([await ask('pilot', 's1'), await ask('pilot', 's2'), await ask('cook', 's3'), await ask('pilot', 's4')]).to.eql([
      ['1', 'forwarded'],
      ['1', 'hit'],
      ['2', 'forwarded'],
      ['1', 'hit'],
    ])
    const page = async (query: string) => {
      const response = await stash.fetch(`${base}/tides/2?${query}`, { headers: { authorization: 'Credential=pilot/now' } })
      return [await response.text(), stash.outcomeOf(response)?.how]
    }
    // biome-ignore format: a row a line
    expect([await page('token=one&X-Amz-Signature=s1'), await page('token=two&X-Amz-Signature=s2'), await page('token=one&sig=s3')]).to.eql(
      [['3', 'forwarded'], ['4', 'forwarded'], ['3', 'hit']],
    )
    const { key } = await stash.explain(`${base}/tides/1`, { headers: { authorization: 'Credential=pilot/now' } })
    expect(key).to.match(/ caller:[0-9a-f]{64}$/)
    const nobody = await stash.fetch(`${base}/tides/1`)
    expect(stash.outcomeOf(nobody), 'no name, no key').to.include({ how: 'passed', reason: 'no-key' })
  })

  it('that a link of an answer goes by keep it from being stored, and the request’s own are left out of it', async () => {
    let link = ''
    await using stash = await openStash({
      fetch: async () => new Response('{}', { headers: { link } }),
      providers: { ebbline: { baseUrl: base, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } } },
    })
    const rows: [link: string, stored: string | undefined][] = [
      ['<https://a.example/next?page=2>; rel=next', '<https://a.example/next?page=2>; rel=next'],
      ['<https://a.example/next?page=2&api_key=mine-own>; rel=next', '<https://a.example/next?page=2>; rel=next'],
      ['<https://a.example/next?api_key=mine-own&page=2>; rel=next', '<https://a.example/next?page=2>; rel=next'],
      ['<https://a.example/next?api_key=mine-own>; rel=next', '<https://a.example/next>; rel=next'],
      ['<https://a.example/next?token=page-of-answer>; rel=next', undefined],
      ['<https://a.example/by/mine-own/next>; rel=next', undefined],
    ]
    for (const [i, [given, stored]] of rows.entries()) {
      link = given
      const url = `${base}/tides/${i}?api_key=mine-own`
      const first = await stash.fetch(url)
      const second = await stash.fetch(url)
      expect(first.headers.get('link')).to.equal(given)
      expect([second.headers.get('link'), stash.outcomeOf(second)?.how]).to.eql(
        stored === undefined ? [given, 'forwarded'] : [stored, 'hit'],
      )
      if (stored === undefined) expect(stash.outcomeOf(second)?.notStored).to.equal('secret')
    }
  })

  it('that are words are not looked for in the words of an answer, and no field is altered by what it repeats', async () => {
    const headers: Record<string, string> = {
      'content-type': 'application/json',
      'cache-control': 'private, max-age=60',
      link: '</v1/application>; rel=next',
      'x-kind': 'application of mine-own',
      'x-plain': 'an application',
      etag: '"mine-own"',
    }
    await using stash = await openStash({
      fetch: async () => new Response('{}', { headers }),
      providers: { ebbline: { baseUrl: base, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } } },
    })
    for (const query of ['key=application', 'token=private&session=application', 'key=application&api_key=mine-own']) {
      const url = `${base}/tides/${query.length}?${query}`
      await stash.fetch(url)
      const response = await stash.fetch(url)
      expect(stash.outcomeOf(response)?.how, query).to.equal('hit')
      const kept = Object.keys(headers).filter((name) => response.headers.get(name) !== null)
      for (const name of kept) expect(response.headers.get(name), name).to.equal(headers[name])
      expect(Object.keys(headers).filter((name) => !kept.includes(name))).to.eql(query.includes('mine-own') ? ['x-kind', 'etag'] : [])
    }
  })

  it('shows nothing of a body that is not JSON, of requests or answers, and nothing of an object in place of code', async () => {
    const warnings: string[] = []
    const json = (from: { json(): unknown }) => (from.json() as { for: string }).for
    await using stash = await openStash({
      warn: (message) => void warnings.push(message),
      fetch: async () => new Response('hush-answer'),
      providers: {
        ebbline: {
          baseUrl: 'https://tides.ebbline.example/v2',
          endpoints: {
            ask: { request: 'POST /ask', safe: true, freshFor: '1 min', keyedBy: json },
            fresh: { request: 'GET /fresh', freshFor: json },
            labelled: { request: 'GET /labelled', freshFor: '1 min', labels: [(_request, answer) => json(answer)] },
          },
        },
      },
    })
    await stash.fetch('https://tides.ebbline.example/v2/ask', { method: 'POST', body: 'hush-password' })
    for (const path of ['fresh', 'labelled']) await (await stash.fetch(`https://tides.ebbline.example/v2/${path}`)).text()
    expect(warnings.join('\n')).to.include('the body of the request is not JSON').and.include('the body of the answer is not JSON')
    expect(warnings).to.have.length(3)
    for (const har of ['hush', '{"log":{"cookie":"hush"', '{"log":"hush"} hush'])
      warnings.push(String(await stash.import(har).catch((error: Error) => [error.message, error.cause])))
    expect(warnings.at(-1)).to.match(/it is not JSON(: look at position \d+)?/)
    for (const config of [{ warn: { key: 'hush' } }, { fetch: ['hush'] }, { clock: new Map([['hush', 1]]), random: { hush: 1 } }])
      warnings.push(String(await openStash(config as object).catch((error: unknown) => error)))
    expect(warnings.at(-3)).to.include('warn: an object is not a function: give one, e.g. (message) =>')
    expect(warnings.join('\n')).to.not.include('hush')
  })

  it('are left out of errors however deep they stand in their causes', async () => {
    const secret = 'sesame-9f27'
    let error: Error = new Error(`?key=${secret}`)
    for (let depth = 0; depth < 12; depth++) error = new Error(`no answer from /tides?key=${secret}`, { cause: error })
    await using stash = await openStash({
      fetch: () => Promise.reject(error),
      providers: { ebbline: { baseUrl: 'https://tides.ebbline.example', endpoints: { tides: { request: 'GET /tides' } } } },
    })
    const thrown = await stash.fetch(`https://tides.ebbline.example/tides?key=${secret}`).catch((one: Error) => one)
    const shown = inspect(thrown, { depth: 20, showHidden: true })
    expect(shown).to.include('no answer from /tides').and.include('causes deeper than 8 are left out').and.not.include(secret)
  })

  it('are taken out of errors, however they hold them: deep, several, frozen, in what they carry', async () => {
    const told = 'SESAME-told-0pen'
    let depth = 0
    const nested = (): Error => new Error(`at ${told}`, { cause: ++depth < 30 ? nested() : 'end' })
    class TideError extends Error {
      readonly code = 'E_TIDE'
      constructor(
        message: string,
        readonly config: unknown,
        options?: ErrorOptions,
      ) {
        super(message, options)
      }
    }
    const errors: (() => unknown)[] = [
      nested,
      () => new AggregateError([told, Object.freeze(new Error(told)), new Error('x', { cause: told })], told),
      () => Object.freeze(new TideError(`no answer for ${told}`, undefined)),
      () =>
        new TideError('refused', { headers: { authorization: `Bearer ${told}` }, url: `${base}/tides/1?hapikey=${told}`, list: [told] }),
      () => new TideError('refused', undefined, { cause: Object.freeze({ message: told, code: 'E_DEEP' }) }),
      () => `thrown ${told}`,
    ]
    for (const [i, make] of errors.entries()) {
      await using stash = await openStash({
        fetch: async () => Promise.reject(make()),
        warn: () => {},
        providers: { ebbline: { baseUrl: base, endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } } } },
      })
      const error = await stash.fetch(`${base}/tides/1?hapikey=${told}`).catch((thrown: unknown) => thrown)
      expect(inspect(error, { depth: 50, showHidden: true }), `${i}`).to.not.include(told)
      if (i === 2) expect(error).to.include({ code: 'E_TIDE', message: 'no answer for [secret]' })
      if (i === 3) expect(error).to.be.instanceOf(TideError)
    }
  })
})
