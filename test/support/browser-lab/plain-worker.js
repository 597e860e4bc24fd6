// A service worker that has imported what loads code later: says what comes of it.
import { memoryStore, openStash } from 'stashen'

globalThis.addEventListener('message', ({ data, ports: [port] }) => {
  openStash({ store: memoryStore() }).then(
    () => port.postMessage({ id: data.id, message: 'opened' }),
    ({ message }) => port.postMessage({ id: data.id, message }),
  )
})
globalThis.addEventListener('install', () => globalThis.skipWaiting())
