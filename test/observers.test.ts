import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import { Writable } from 'node:stream'
import { context, metrics, SpanKind, SpanStatusCode, trace } from '@opentelemetry/api'
import { AsyncLocalStorageContextManager } from '@opentelemetry/context-async-hooks'
import { AggregationTemporality, InMemoryMetricExporter, MeterProvider, PeriodicExportingMetricReader } from '@opentelemetry/sdk-metrics'
import { BasicTracerProvider, InMemorySpanExporter, SimpleSpanProcessor } from '@opentelemetry/sdk-trace-base'
import { expect } from 'chai'
import pino from 'pino'
import { memoryStore, openStash, type Stash } from 'stashen'
import { logEvents, prometheusText, traceCalls } from 'stashen/observers'
import { HandClock } from './support/hand-clock.js'

/** Plays a good call, a hit, a refused, a failed, a held-off and an unreachable call, with credentials in all of them. */
async function play(watch: (stash: Stash) => Promise<void> | void): Promise<Stash> {
  const server = createServer((request, response) => {
    const status = Number(/\/(\d{3})/.exec(request.url ?? '')?.[1] ?? 200)
    response.writeHead(status, { 'content-type': 'application/json', ...(status === 429 && { 'retry-after': '1' }) }).end('{}')
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const nowhere = `http://127.0.0.1:${await deadPort()}`
  const store = memoryStore()
  const clock = new HandClock()
  const stash = await openStash({
    ...{ store, clock },
    warn: () => {},
    providers: {
      harbour: {
        baseUrl: base,
        secretQuery: ['key'],
        endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 day', staleIfError: 0 } },
      },
      nowhere: {
        baseUrl: nowhere,
        secretQuery: ['key'],
        endpoints: { any: { request: 'GET /*', freshFor: '1 day', holdOff: 0 } },
      },
    },
  })
  await watch(stash)
  const ask = (url: string) =>
    stash
      .fetch(`${url}?key=hush-query`, { headers: { authorization: 'Bearer hush-field' } })
      .then((response) => response.text())
      .catch(() => undefined)
  try {
    for (const path of ['200', '200', '500', 'x']) await ask(`${base}/tides/${path}`)
    await ask(`${nowhere}/any`)
    const works = store.entries.put.bind(store.entries)
    store.entries.put = () => {
      throw new Error('disk on fire, hush-store')
    }
    await stash.operation('skerrylight.find', async () => 'v-201', { freshFor: '1 day' })()
    store.entries.put = works
    await clock.advance(1_050)
    await ask(`${base}/tides/good`)
    await ask(`${base}/tides/429`)
  } finally {
    server.closeAllConnections()
    server.close()
  }
  return stash
}

async function deadPort(): Promise<number> {
  const server = createServer()
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const { port } = server.address() as AddressInfo
  await new Promise((closed) => server.close(closed))
  return port
}

describe('observers', () => {
  it('log what happens into pino, at sensible levels and without any secret', async () => {
    const lines: { level: number; event: string; msg: string; error?: string }[] = []
    const logger = pino(
      { level: 'debug' },
      new Writable({ write: (chunk, _coding, done) => done(void lines.push(JSON.parse(String(chunk)))) }),
    )
    await using stash = await play((opened) => void logEvents(opened, logger, { calls: true }))
    const levelOf = (event: string) => new Set(lines.filter((line) => line.event === event).map(({ level }) => level))
    expect(levelOf('call')).to.eql(new Set([20]))
    expect(levelOf('upstream')).to.eql(new Set([20, 30]))
    expect(levelOf('hold-off')).to.eql(new Set([40]))
    expect(levelOf('recovered')).to.eql(new Set([30]))
    expect(levelOf('store-trouble')).to.eql(new Set([50]))
    expect(lines.find(({ event }) => event === 'hold-off')?.msg).to.match(
      /^harbour\.tides is held off until .* after a failure: answered with status 500$/,
    )
    expect(lines.find(({ error }) => error?.startsWith('TypeError'))?.error).to.equal('TypeError (ECONNREFUSED)')
    expect(JSON.stringify(lines)).to.not.include('hush')
    expect(JSON.stringify([await stash.status(), await stash.report()])).to.not.include('hush')
    const quiet: unknown[] = []
    const end = logEvents(stash, pino({}, new Writable({ write: (chunk, _coding, done) => done(void quiet.push(chunk)) })))
    end()
    await stash.operation('skerrylight.quiet', async () => 1)()
    expect(quiet).to.eql([])
  })

  it('say where each answer came from and how long that took, of the outcome too, and name the key where that is wanted', async () => {
    const endpoints = { station: { request: 'GET /stations/{id}', freshFor: '1 day' } } as const
    const clock = new HandClock()
    await using stash = await openStash({
      clock,
      fetch: async () => {
        await clock.advance(20)
        return new Response('Kelpmouth')
      },
      providers: { ebbline: { baseUrl: 'https://tides.ebbline.example/v2', secretQuery: ['key'], endpoints } },
    })
    const lines: [facts: { key?: string }, message: string][] = []
    const debug = (facts: object, message: string) => void lines.push([facts, message])
    logEvents(stash, { debug, info: debug, warn: debug, error: debug }, { calls: true, keys: true })
    const outcomes = []
    for (let i = 0; i < 2; i++) {
      const response = await stash.fetch('https://tides.ebbline.example/v2/stations/st-017?key=hush')
      const clone = response.clone()
      for (const one of [clone, clone.clone()]) {
        expect(stash.outcomeOf(one)).to.equal(stash.outcomeOf(response))
        expect([one.url, await one.text()]).to.eql([response.url, 'Kelpmouth'])
      }
      outcomes.push(stash.outcomeOf(response))
    }
    expect(outcomes.map((outcome) => outcome?.ms)).to.eql([20, 0])
    const calls = lines.filter(([facts]) => (facts as { event?: string }).event === 'call')
    const key = 'GET https://tides.ebbline.example/v2/stations/st-017 '
    for (const [facts] of calls) expect(facts.key).to.match(/^GET .* ebbline.station/)
    const [first, second] = calls.map(([, message]) => message)
    expect(first?.startsWith(key)).to.equal(true)
    expect(first).to.match(/: ebbline\.station: not in store, fetched in \d+(\.\d)? ms$/)
    expect(second).to.match(/: ebbline\.station: from store in \d+(\.\d)? ms$/)
    expect(JSON.stringify(lines)).to.not.include('hush')
    const failure = await stash
      .fetch('https://tides.ebbline.example/v2/stations/st-018', { signal: AbortSignal.abort() })
      .catch((error) => error)
    expect(stash.outcomeOf(failure)).to.include({ how: 'abandoned' })
    expect(stash.outcomeOf(failure)?.ms).to.equal(0)
  })

  it('trace calls by the conventions for HTTP clients, under the span of their caller', async () => {
    const spans = new InMemorySpanExporter()
    trace.setGlobalTracerProvider(new BasicTracerProvider({ spanProcessors: [new SimpleSpanProcessor(spans)] }))
    context.setGlobalContextManager(new AsyncLocalStorageContextManager().enable())
    const exporter = new InMemoryMetricExporter(AggregationTemporality.CUMULATIVE)
    const meters = new MeterProvider({ readers: [new PeriodicExportingMetricReader({ exporter, exportIntervalMillis: 3_600_000 })] })
    metrics.setGlobalMeterProvider(meters)
    try {
      const page = trace.getTracer('page').startSpan('page')
      await using _stash = await context.with(trace.setSpan(context.active(), page), () =>
        play(async (opened) => void (await traceCalls(opened))),
      )
      const [good, failed] = spans.getFinishedSpans()
      expect(good?.parentSpanContext?.spanId).to.equal(page.spanContext().spanId)
      const { port } = new URL(String(good?.attributes['url.full']))
      expect(good).to.include({ name: 'GET', kind: SpanKind.CLIENT })
      expect(good?.attributes).to.deep.include({
        'http.request.method': 'GET',
        'url.full': `http://127.0.0.1:${port}/tides/200`,
        'url.scheme': 'http',
        'server.address': '127.0.0.1',
        'server.port': Number(port),
        'http.response.status_code': 200,
        'stashen.endpoint': 'tides',
      })
      expect(failed?.attributes).to.include({ 'http.response.status_code': 500, 'error.type': '500' })
      expect(failed?.status.code).to.equal(SpanStatusCode.ERROR)
      const lost = [...spans.getFinishedSpans()].find(({ attributes }) => attributes['stashen.provider'] === 'nowhere')
      expect(lost?.attributes).to.include({ 'error.type': 'ECONNREFUSED' })
      await meters.forceFlush()
      const found = exporter.getMetrics().flatMap(({ scopeMetrics }) => scopeMetrics.flatMap((one) => one.metrics))
      const duration = found.find(({ descriptor }) => descriptor.name === 'http.client.request.duration')
      expect(duration?.descriptor.unit).to.equal('s')
      expect(duration?.dataPoints.map(({ attributes }) => attributes['http.response.status_code']).sort()).to.include.members([
        200, 429, 500,
      ])
      const calls = found.find(({ descriptor }) => descriptor.name === 'stashen.calls')
      expect(calls?.dataPoints.map(({ attributes }) => attributes['stashen.how'])).to.include.members(['hit', 'forwarded', 'failed'])
      expect(JSON.stringify([spans.getFinishedSpans().map(({ attributes }) => attributes), found])).to.not.include('hush')
    } finally {
      await meters.shutdown()
      for (const global of [trace, metrics, context]) global.disable()
    }
  })

  it('give the ledger as Prometheus text', async () => {
    await using stash = await play(() => {})
    const text = await prometheusText(await stash.report())
    for (const line of [
      '# TYPE stashen_calls_total counter',
      'stashen_calls_total{provider="harbour",endpoint="tides",mode="reuse",how="fresh"} 1',
      'stashen_calls_total{provider="harbour",endpoint="tides",mode="reuse",how="failed"} 3',
      'stashen_upstream_calls_total{provider="harbour",endpoint="tides",mode="reuse",ending="refused"} 1',
      'stashen_calls_total{provider="nowhere",endpoint="any",mode="reuse",how="failed"} 1',
    ]) {
      expect(text).to.include(line)
    }
    expect(text).to.match(/stashen_call_duration_seconds\{provider="harbour",endpoint="tides",mode="reuse",quantile="0\.95"\} \d/)
  })
})
