import { execFileSync } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { isMainThread, Worker } from 'node:worker_threads'

// a program that knows nothing of Stashen: calls.process.js CLIENT URL

const [client = '', base = ''] = process.argv.slice(2)
const secret = { authorization: 'Bearer kelp-hush-4711' }

const clients: Record<string, () => Promise<unknown>> = {
  async axios() {
    const { default: axios } = await import('axios')
    for (const id of ['st-017', 'st-018', 'st-017']) await axios.get(`${base}/v2/stations/${id}`, { headers: secret })
    await axios.post(`${base}/v2/vessels/search`, { name: 'Skerry' })
    await axios.post(`${base}/v2/vessels/search`, { name: 'Kelp' })
    await axios.post(`${base}/v2/vessels/search`, { name: 'Skerry' })
    await axios.get(`${base}/v2/refused`, { validateStatus: null })
    await axios.get(`${base}/v2/moved`)
    await axios.get(`${base}/v2/stations/kelp-hush-4711`)
    await axios.get(`${base}/v2/broken`).catch(() => 'broken')
  },
  async got() {
    const { default: got } = await import('got')
    for (let i = 0; i < 4; i++) await got(`${base}/v2/stations/st-017/tides`, { searchParams: { api_key: 'kelp-hush-4711' } }).json()
    for await (const _chunk of got.stream(`${base}/v2/stations/st-017`));
    await got(`${base}/v2/down`, {
      retry: { limit: 1, calculateDelay: ({ computedValue }) => computedValue && 50 },
      throwHttpErrors: false,
    })
  },
  async child() {
    await Promise.all([fetch(`${base}/v2/stations`).then((response) => response.text())])
  },
  async fetch() {
    const ask = (path: string, init?: RequestInit) => fetch(`${base}/v2${path}`, init).then((response) => response.text())
    await Promise.all(Array.from({ length: 10 }, () => ask('/stations/st-017', { headers: secret })))
    await ask('/stations/st-018', { headers: { cookie: 'session=kelp-hush-4711' } })
    for (const name of ['Skerry', 'Kelp', 'Skerry']) await ask('/vessels/search', { method: 'POST', body: JSON.stringify({ name }) })
    await ask('/moved')
    await ask('/broken').catch(() => 'broken')
    if (!isMainThread) return
    const self = fileURLToPath(import.meta.url)
    await new Promise((resolve) => new Worker(self, { argv: ['fetch', base] }).once('exit', resolve))
    execFileSync(process.execPath, [self, 'child', base])
  },
}

await clients[client]?.()
if (isMainThread && client !== 'child') {
  console.log('done')
  process.exitCode = 3
}
