// Serves the made-up providers on loopback until it is stopped: node serve.js [FIRST PORT]
import { openHarbour } from './open-harbour.js'

const { providers } = await openHarbour({ withOutage: false, port: Number(process.argv[2] ?? 4701) })
for (const [name, { url }] of Object.entries(providers)) console.log(`${name} at ${url}`)
