import { compileProvider } from '../src/core/endpoints/compile.js'
import { RuleBook } from '../src/core/endpoints/rule-book.js'
import { compileKeying } from '../src/core/rules/keying.js'
import { requestKey } from '../src/core/rules/request-key.js'
import { sentRequest } from '../src/core/rules/sent-request.js'
import { compare, type Ratio } from './compare.js'

const common = { mode: 'reuse', sets: {}, refusals: 'throw' } as const
const baseUrl = 'https://tides.ebbline.example/v2'
const address = `${baseUrl}/stations/st-017/tides?day=2026-06-30`

/** Calls timed together, so that the timing itself weighs little. */
const together = 50

function repeated(run: () => unknown): () => void {
  return () => {
    for (let i = 0; i < together; i++) run()
  }
}

function bookOf(endpoints: number): RuleBook {
  const list = Array.from({ length: endpoints - 1 }, (_, i) => ({ name: `e${i}`, request: `GET /e${i}/{id}/tides` }))
  return new RuleBook([
    compileProvider('ebbline', { baseUrl, endpoints: [...list, { name: 'tides', request: 'GET /stations/{id}/tides' }] }, common),
  ])
}

export async function matchingRatio(): Promise<Ratio> {
  const [few, many, url] = [bookOf(5), bookOf(500), new URL(address)]
  const name = 'matching 500 endpoints against 5'
  return compare({
    name,
    ours: repeated(() => many.match('GET', url)),
    baseline: repeated(() => few.match('GET', url)),
    limit: 2,
    each: together,
  })
}

export async function keyRatio(): Promise<Ratio> {
  const provider = compileProvider('ebbline', { baseUrl }, common)
  const [keying, url] = [compileKeying({ provider: 'ebbline', name: 'tides' }, {}), new URL(address)]
  const request = sentRequest({ method: 'GET', url, header: () => null, fields: [] })
  const ours = repeated(() => requestKey(provider, keying, request))
  return compare({
    name: 'the key of a GET against new URL().href',
    ours,
    baseline: repeated(() => new URL(address).href),
    limit: 2,
    each: together,
  })
}
