import { fileURLToPath } from 'node:url'
import react from '@vitejs/plugin-react'
import { type Connect, createServer, type Plugin } from 'vite'
import { type Harbour, openHarbour } from '../harbour/open-harbour.js'

const root = fileURLToPath(new URL('../../../', import.meta.url))

export interface Board {
  readonly url: string
  readonly harbour: Harbour
  close(): Promise<void>
}

/** Starts the simulated providers and the board's page; port 0 takes any free one. `latency`: as a multiple of the providers' usual response times. */
export async function startBoard(port: number, latency = 1): Promise<Board> {
  const harbour = await openHarbour({ withOutage: false, latency })
  const server = await createServer({
    configFile: false,
    root: `${root}examples/board/page`,
    cacheDir: `${root}node_modules/.vite`,
    logLevel: 'warn',
    plugins: [react(), controls(harbour)],
    resolve: {
      alias: [
        { find: /^stashen$/, replacement: `${root}dist/src/index.js` },
        { find: /^stashen\/(\w+)$/, replacement: `${root}dist/src/stores/$1/index.js` },
      ],
    },
    server: { host: '127.0.0.1', port, strictPort: port !== 0, fs: { allow: [root] }, proxy: proxies(harbour) },
  })
  await server.listen()
  return {
    url: server.resolvedUrls?.local[0] ?? '',
    harbour,
    async close() {
      await server.close()
      await harbour.close()
    },
  }
}

/** Each provider answers under `/upstream/<name>`, so that the page needs no other origin. */
function proxies({ urls }: Harbour) {
  return Object.fromEntries(
    Object.entries(urls).map(([name, url]) => [
      `/upstream/${name}`,
      { target: url, rewrite: (path: string) => path.slice(`/upstream/${name}`.length) },
    ]),
  )
}

/** `POST /control/<name>/cut` and `/restore`. */
function controls({ providers }: Harbour): Plugin {
  const control: Connect.NextHandleFunction = (request, response, next) => {
    const [, , name = '', action] = (request.originalUrl ?? '').split('/')
    const provider = providers[name as keyof typeof providers]
    if (request.method !== 'POST' || !provider || (action !== 'cut' && action !== 'restore')) return next()
    provider[action]()
    response.statusCode = 204
    response.end()
  }
  return { name: 'harbour-controls', configureServer: ({ middlewares }) => void middlewares.use('/control', control) }
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const { url } = await startBoard(Number(process.env.PORT ?? 5180))
  console.log(`The departures board is at ${url} (ctrl-c ends it, PORT=<number> moves it)`)
}
