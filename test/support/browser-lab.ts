import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import { fileURLToPath } from 'node:url'
import { type Browser, type BrowserContext, chromium as driver } from 'playwright-core'
import { createServer as createVite } from 'vite'
import { chromium } from './needs.js'

const root = fileURLToPath(new URL('../../../', import.meta.url))

export const flags = [
  '--headless',
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
]

/** A real browser, and a server whose page has the built library as `lab`. */
export interface BrowserLab {
  readonly url: string
  readonly browser: Browser
  /** Paths that were asked upstream, in their order. */
  readonly asked: string[]
  /** How upstream answers. */
  answer: (path: string, response: ServerResponse) => void
  /** A browser profile of its own. */
  context(): Promise<BrowserContext>
  close(): Promise<void>
}

export async function startBrowserLab(): Promise<BrowserLab> {
  const vite = await createVite({
    configFile: false,
    root: `${root}test/support/browser-lab`,
    cacheDir: `${root}node_modules/.vite-lab`,
    logLevel: 'error',
    resolve: {
      alias: [
        { find: /^stashen$/, replacement: `${root}dist/src/index.js` },
        { find: /^stashen\/whole$/, replacement: `${root}dist/src/whole.js` },
        { find: /^stashen\/testing$/, replacement: `${root}dist/src/testing/index.js` },
        { find: /^stashen\/(\w+)$/, replacement: `${root}dist/src/stores/$1/index.js` },
      ],
    },
    server: { middlewareMode: true, hmr: false, ws: false, fs: { allow: [root] } },
  })
  const asked: string[] = []
  const lab = {
    answer: (path: string, response: ServerResponse) => void response.end(`${path} ${asked.length}`),
  }
  const server = createServer((request: IncomingMessage, response: ServerResponse) => {
    const path = request.url ?? ''
    if (!path.startsWith('/upstream')) return vite.middlewares(request, response)
    asked.push(path.slice('/upstream'.length))
    lab.answer(path.slice('/upstream'.length), response)
  })
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  const { port } = server.address() as { port: number }
  const browser = await driver.launch({ executablePath: chromium, args: flags })
  return Object.assign(lab, {
    ...{ url: `http://127.0.0.1:${port}/`, browser, asked },
    context: () => browser.newContext(),
    async close() {
      await browser.close()
      server.closeAllConnections()
      await new Promise((done) => server.close(done))
      await vite.close()
    },
  })
}
