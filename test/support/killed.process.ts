import { openStash } from 'stashen'
import { storeNamed } from './two-processes.js'

/** Asks for this and that without pause until it is killed. */
const [store = '', baseUrl = ''] = process.argv.slice(2)
process.stdin.resume().on('end', () => process.exit()) // whoever started it has gone
const stash = await openStash({
  ...{ store: storeNamed(store), warn() {} },
  providers: {
    harbour: {
      baseUrl,
      plan: { currency: 'EUR', perCall: '0' },
      budgets: [{ money: '2.05', per: 'year', stretchAt: 1 }],
      endpoints: {
        tide: { request: 'GET /tides/{id}', freshFor: '40 ms', staleIfError: '1 day', staleWhileRevalidate: '20 ms' },
        quote: { request: 'GET /quotes/{id}', freshFor: '1 day', limits: [{ calls: 40, per: 'hour' }], atLimit: 'refuse' },
        berth: { request: 'GET /berths/{id}', freshFor: '1 day', perCall: '0.10' },
      },
    },
  },
})
const paths = ['/tides/', '/tides/', '/tides/', '/quotes/', '/berths/']
const forever = async () => {
  for (;;) {
    const path = `${paths[Math.floor(Math.random() * paths.length)]}${Math.floor(Math.random() * 600)}`
    await stash.fetch(baseUrl + path).then(
      (response) => response.text(),
      () => new Promise((resolve) => setTimeout(resolve, 1)),
    )
  }
}
await Promise.all(Array.from({ length: 6 }, forever))
