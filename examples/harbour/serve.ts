// Serves the fictional providers on loopback until it is stopped: node serve.js [FIRST PORT]
import { openHarbour } from './open-harbour.js'

const { urls } = await openHarbour({ withOutage: false, port: Number(process.argv[2] ?? 4701) })
for (const [name, url] of Object.entries(urls)) console.log(`${name} at ${url}`)
