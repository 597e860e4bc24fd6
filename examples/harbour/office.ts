// An hour of the harbour office, played in seconds, by a program that knows nothing of Stashen: `npx stashen measure -- node dist/examples/harbour/office.js`.
import { openHarbour } from './open-harbour.js'
import { type HarbourRequest, requests } from './requests.js'
import { vessels } from './world.js'

const harbour = await openHarbour({ withOutage: false })
const ask = ({ url, init }: HarbourRequest) => harbour.fetch(url, init).then((response) => response.text())
const today = new Date().toISOString().slice(0, 10)

await Promise.all([ask(requests.findStation()), ask(requests.tariff()), ...vessels.map(({ name }) => ask(requests.search(name)))])
for (let round = 0; round < 5; round++) {
  await Promise.all([
    ...[ask(requests.station()), ask(requests.tides(today)), ask(requests.tariff())],
    ...vessels.map(({ id }) => ask(requests.position(id))),
    ...[ask(requests.quote(12, 2)), ask(requests.quote(9, 1 + (round % 2)))],
  ])
}
console.log('the board is up to date')
await harbour.close()
