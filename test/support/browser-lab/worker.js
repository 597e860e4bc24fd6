// Asks in a worker or service worker as it is told to.
import 'stashen/whole' // a service worker can load nothing later
import './lab.js'

const answer = async ({ data: { id, path }, source, ports }) => {
  const { lab } = globalThis
  if (!lab.stashes.has('one')) await lab.open()
  const reply = { id, ...(await lab.ask(path)) }
  const to = ports?.[0] ?? source ?? globalThis
  to.postMessage(reply)
}
globalThis.addEventListener('message', (event) => void (event.waitUntil?.(answer(event)) ?? answer(event)))
globalThis.addEventListener('install', () => globalThis.skipWaiting?.())
