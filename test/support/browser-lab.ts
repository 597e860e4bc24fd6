import { readFileSync } from 'node:fs'
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import { basename } from 'node:path'
import { fileURLToPath } from 'node:url'
import { build, stop } from 'esbuild'
import type { Browser, BrowserContext } from 'playwright-core'
import { browserOfRun } from './shared-by-suites.js'

const root = fileURLToPath(new URL('../../../', import.meta.url))

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
  const folder = `${root}test/support/browser-lab`
  const { outputFiles } = await build({
    ...{ entryPoints: ['lab', 'worker', 'plain-worker'].map((name) => `${folder}/${name}.js`), outdir: folder, write: false },
    ...{ bundle: true, splitting: true, format: 'esm', platform: 'browser', target: 'es2022', logLevel: 'silent' },
    alias: {
      'stashen/whole': `${root}dist/src/whole.js`,
      'stashen/testing': `${root}dist/src/testing/index.js`,
      ...Object.fromEntries(
        ['indexeddb', 'layered', 'packed'].map((name) => [`stashen/${name}`, `${root}dist/src/stores/${name}/index.js`]),
      ),
      stashen: `${root}dist/src/index.js`,
    },
  })
  const files = new Map(outputFiles.map(({ path, contents }) => [`/${basename(path)}`, contents]))
  const html = readFileSync(`${folder}/index.html`)
  const asked: string[] = []
  const lab = {
    answer: (path: string, response: ServerResponse) => void response.end(`${path} ${asked.length}`),
  }
  const server = createServer((request: IncomingMessage, response: ServerResponse) => {
    const path = request.url ?? ''
    if (!path.startsWith('/upstream')) {
      const file = files.get(path) ?? html
      response.setHeader('content-type', file === html ? 'text/html' : 'text/javascript')
      return response.end(file)
    }
    asked.push(path.slice('/upstream'.length))
    lab.answer(path.slice('/upstream'.length), response)
  })
  await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
  const { port } = server.address() as { port: number }
  const browser = await browserOfRun()
  return Object.assign(lab, {
    ...{ url: `http://127.0.0.1:${port}/`, browser, asked },
    context: () => browser.newContext(),
    async close() {
      await browser.close()
      server.closeAllConnections()
      await new Promise((done) => server.close(done))
      await stop()
    },
  })
}
