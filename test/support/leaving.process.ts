import { openStash } from 'stashen'
import { redisStore } from 'stashen/redis'
import { sqliteStore } from 'stashen/sqlite'

/** Makes calls, four that are answered and two that are not yet, and ends without closing its stash: by `how`, as soon as they have left. */
const [store = '', base = '', how = ''] = process.argv.slice(2)
const stash = await openStash({
  store: store.startsWith('redis') ? redisStore({ url: store }) : sqliteStore(store),
  providers: {
    ebbline: {
      baseUrl: base,
      quota: { calls: 100, per: 'month' },
      plan: { currency: 'EUR', perCall: '0.01' },
      endpoints: { tides: { request: 'GET /tides/{id}', freshFor: '1 hour' } },
    },
  },
})
for (let i = 0; i < 4; i++) await (await stash.fetch(`${base}/tides/${process.pid}-${i}`)).text()
if (how !== 'out of work') {
  for (let i = 0; i < 2; i++) void stash.fetch(`${base}/slow/${i}`).catch(() => undefined)
  await (await fetch(`${base}/both-arrived`)).text()
}
if (how === 'exit') process.exit(3)
if (how === 'throw') throw new Error('thrown on purpose')
