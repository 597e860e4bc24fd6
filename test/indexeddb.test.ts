import { randomBytes } from 'node:crypto'
import type { ServerResponse } from 'node:http'
import { expect } from 'chai'
import type { BrowserContext, Page } from 'playwright-core'
import { openStash, type Stash, type Store } from 'stashen'
import { type BrowserLab, startBrowserLab } from './support/browser-lab.js'
import { haveChromium } from './support/needs.js'
import { isLong } from './support/scale.js'

/** What `test/support/browser-lab/lab.js` puts into a page. */
interface Lab {
  open(name?: string, options?: object): Promise<unknown>
  ask(path: string, name?: string): Promise<{ how: string; stored: boolean; body: string }>
  /** Reads the first piece of an answer, and then the others. */
  begin(path: string): Promise<string>
  rest(): Promise<string>
  contract(packing?: object): Promise<{ count: number; failures: string[] }>
  readonly stashes: Map<string, { readonly stash: Stash; readonly warnings: string[] }>
}
declare const lab: Lab

/** Compiled by itself, with the types of browsers. */
const compiled: string = 'stashen/indexeddb'

describe('a store in IndexedDB', () => {
  it('says where there is none that it is for browsers', async () => {
    const { indexedDbStore } = (await import(compiled)) as { indexedDbStore: (options?: object) => Store }
    const error = await openStash({ store: indexedDbStore() }).catch((thrown: Error) => thrown)
    expect(error).to.include({ code: 'STORE_UNUSABLE' })
    expect((error as Error).message).to.include('indexedDbStore is for browsers; elsewhere use sqliteStore or memoryStore')
    for (const options of [{ name: '' }, { name: 7 }, { maxBytes: 0 }, { maxBytes: 1.5 }])
      expect(() => indexedDbStore(options), JSON.stringify(options)).to.throw('of indexedDbStore is')
  })
})

if (haveChromium('stores in IndexedDB')) {
  describe('a store in IndexedDB, in a real browser', () => {
    let browser: BrowserLab
    let context: BrowserContext
    const patience = { timeout: 60_000 }

    before(async () => {
      browser = await startBrowserLab()
      const page = await opened(await browser.context()) // so that the server has what pages need
      await page.context().close()
    })
    after(() => browser?.close())
    beforeEach(async () => {
      context = await browser.context()
      browser.asked.length = 0
      browser.answer = (path, response) => void response.end(`${path} ${browser.asked.length}`)
    })
    afterEach(() => context.close())

    async function opened(of = context): Promise<Page> {
      const page = await of.newPage()
      await page.goto(browser.url, patience)
      await page.waitForFunction(() => 'lab' in globalThis, undefined, patience)
      return page
    }

    it('knows the calls of short visits: of pages that are closed, left, or hidden, also before an answer came', async () => {
      const visit = async (path: string, end: (page: Page) => Promise<unknown>) => {
        const page = await opened()
        await page.evaluate(() => lab.open())
        if (path.startsWith('/tides')) await page.evaluate((of) => lab.ask(of), path)
        else {
          void page.evaluate((of) => void lab.ask(of), path)
          while (!browser.asked.includes(path)) await new Promise((resolve) => setTimeout(resolve, 5))
        }
        await end(page)
      }
      const { answer } = browser
      browser.answer = (path, response) => path.startsWith('/tides') && answer(path, response)
      await visit('/tides/1', (page) => page.close())
      await visit('/tides/2', (page) => page.goto('about:blank'))
      await visit('/tides/3', (page) => page.reload())
      await visit('/tides/4', (page) => page.evaluate("void location.assign('/elsewhere')"))
      await visit('/tides/5', (page) => page.close({ runBeforeUnload: true }))
      await visit('/slow/6', (page) => page.close())
      const page = await opened()
      const report = await page.evaluate(async () => {
        const stash = (await lab.open('one')) as Stash
        return stash.report()
      })
      expect([report.totals.with?.upstream, browser.asked.length]).to.eql([6, 6])
      expect(await page.evaluate('Object.keys(localStorage)'), 'nothing is left to be added').to.eql([])
    })
    const ask = (page: Page, path: string, name = 'one') => page.evaluate(([of, by]) => lab.ask(of as string, by), [path, name])

    /** What a service worker answers to a message. */
    const askedInServiceWorker = (page: Page, url: string, message: object) =>
      page.evaluate(
        async ([script, given]) => {
          interface Port {
            onmessage: (event: { data: unknown }) => void
          }
          interface Registration {
            readonly active: { postMessage(message: object, ports: unknown[]): void } | null
          }
          interface ServiceWorkers {
            register(url: string, options: object): Promise<Registration>
            readonly ready: Promise<Registration>
          }
          const { serviceWorker } = (globalThis as unknown as { navigator: { serviceWorker: ServiceWorkers } }).navigator
          await serviceWorker.register(script, { type: 'module' })
          const { active } = await serviceWorker.ready
          const { port1, port2 } = new MessageChannel()
          return new Promise((resolve) => {
            ;(port1 as unknown as Port).onmessage = ({ data }) => resolve(data)
            active?.postMessage(given, [port2])
          })
        },
        [url, message] as const,
      )

    it('holds to the contract', async () => {
      const { count, failures } = await (await opened()).evaluate(() => lab.contract())
      expect(failures.join('\n\n')).to.equal('')
      expect(count).to.be.above(20)
    }).timeout(120_000)

    if (isLong)
      it('holds to the contract where it is compressed and encrypted', async () => {
        const packing = { compress: { above: 16 }, encrypt: { keys: [{ id: 'one', secret: randomBytes(32).toString('base64') }] } }
        const { count, failures } = await (await opened()).evaluate((its) => lab.contract(its), packing)
        expect(failures.join('\n\n')).to.equal('')
        expect(count).to.be.above(20)
      }).timeout(120_000)

    it('tells a service worker what to import that can load nothing later', async () => {
      const told = await askedInServiceWorker(await opened(), '/plain-worker.js', { id: 1 })
      expect(told).to.have.property('message').that.includes('import "stashen/whole" in place of "stashen"')
    })

    it('is shared by tabs, workers and a service worker, and shows what it has after a reload without network', async () => {
      const [one, two] = [await opened(), await opened()]
      for (const page of [one, two]) await page.evaluate(() => lab.open())
      expect(await ask(one, '/tides/1')).to.eql({ how: 'forwarded', stored: true, body: '/tides/1 1' })
      expect(await ask(two, '/tides/1')).to.include({ how: 'hit', body: '/tides/1 1' })
      const byWorker = await one.evaluate(async () => {
        const { Worker } = globalThis as unknown as { Worker: new (url: string, options: object) => Port }
        interface Port {
          postMessage(message: object): void
          onmessage: (event: { data: unknown }) => void
        }
        const worker = new Worker('/worker.js', { type: 'module' })
        return new Promise((resolve) => {
          worker.onmessage = ({ data }) => resolve(data)
          worker.postMessage({ id: 1, path: '/tides/1' })
        })
      })
      expect(byWorker).to.include({ how: 'hit', body: '/tides/1 1' })
      const byServiceWorker = await askedInServiceWorker(one, '/worker.js', { id: 1, path: '/tides/2' })
      expect(byServiceWorker).to.include({ how: 'forwarded', body: '/tides/2 2' })
      browser.answer = (_path, response) => void response.destroy()
      await one.reload(patience)
      await one.waitForFunction(() => 'lab' in globalThis, undefined, patience)
      await one.evaluate(() => lab.open())
      for (const id of [1, 2]) expect(await ask(one, `/tides/${id}`)).to.include({ how: 'hit', body: `/tides/${id} ${id}` })
      await one.evaluate(() => lab.stashes.get('one')?.stash.invalidate({ label: 'tides 1' }))
      expect(await ask(one, '/tides/1'), 'in an emergency').to.include({ how: 'stale' })
      await one.evaluate(() => lab.stashes.get('one')?.stash.report()) // so that its counts are written
      const counted = await two.evaluate(async () => {
        const stash = lab.stashes.get('one')?.stash
        const { totals } = (await stash?.report()) ?? {}
        const status = await stash?.status()
        return { asked: totals?.with?.asked, on: status?.store.on, entries: status?.store.entries }
      })
      expect(counted.asked, 'of all, but for what workers have not written yet').to.be.within(4, 8)
      expect(counted).to.include({ on: 'IndexedDB', entries: 2 })
    })

    it('makes one upstream call of all tabs; a tab that is closed meanwhile costs no more than one other', async () => {
      const pages = [await opened(), await opened(), await opened()]
      for (const page of pages) await page.evaluate(() => lab.open())
      let release = () => {}
      browser.answer = (path, response) => {
        const earlier = release
        release = () => {
          earlier()
          response.end(path)
        }
      }
      const many = (page: Page, path: string) =>
        page.evaluate(async (of) => {
          const all = await Promise.all(Array.from({ length: 50 }, () => lab.ask(of)))
          return [all[0]?.body, new Set(all.map(({ body }) => body)).size]
        }, path)
      const asking = pages.map((page) => many(page, '/tides/3'))
      await until(() => browser.asked.length > 0)
      await new Promise((resolve) => setTimeout(resolve, 100))
      release()
      for (const all of await Promise.all(asking)) expect(all).to.eql(['/tides/3', 1])
      expect(browser.asked).to.eql(['/tides/3'])

      const [first, ...others] = pages as [Page, ...Page[]]
      void many(first, '/tides/4').catch(() => {})
      await until(() => browser.asked.length > 1)
      const waiting = others.map((page) => many(page, '/tides/4'))
      await new Promise((resolve) => setTimeout(resolve, 100))
      await first.close()
      await until(() => browser.asked.length > 2)
      release()
      for (const all of await Promise.all(waiting)) expect(all).to.eql(['/tides/4', 1])
      expect(browser.asked).to.eql(['/tides/3', '/tides/4', '/tides/4'])
    })

    it('gives what arrives in one tab to others while it does, and goes on where that tab is closed', async () => {
      const [first, second] = [await opened(), await opened()]
      for (const page of [first, second]) await page.evaluate(() => lab.open())
      const responses: ServerResponse[] = []
      browser.answer = (_path, response) => {
        response.write('2.4 m')
        responses.push(response)
      }
      const paths = isLong ? ['/tides/8', '/tides/9'] : ['/tides/8'] // a claim holds for five seconds
      for (const path of paths) {
        expect(await first.evaluate((of) => lab.begin(of), path)).to.equal('2.4 m')
        expect(await second.evaluate((of) => lab.begin(of), path), 'while it arrives').to.equal('2.4 m')
        if (path === '/tides/9') {
          await first.close()
          await until(() => responses.length === 3)
        }
        responses.at(-1)?.end(', rising')
        expect(await second.evaluate(() => lab.rest())).to.equal(', rising')
      }
      expect(browser.asked).to.eql(isLong ? ['/tides/8', '/tides/9', '/tides/9'] : ['/tides/8'])
    })

    it('does not wait for a tab that is suspended, and does not store what that brings later', async () => {
      const [halted, page] = [await opened(), await opened()]
      await halted.evaluate(() => {
        globalThis.setInterval = (() => 0) as never // as in a tab whose timers stand still
      })
      for (const one of [halted, page]) await one.evaluate(() => lab.open())
      const answers: (() => void)[] = []
      browser.answer = (_path, response) => {
        const body = `answer ${answers.length + 1}`
        answers.push(() => void response.end(body))
      }
      const late = halted.evaluate(async () => (await lab.ask('/tides/6')).body)
      await until(() => answers.length === 1)
      const asking = ask(page, '/tides/6')
      await new Promise((resolve) => setTimeout(resolve, 100))
      expect(answers, 'while it may be there').to.have.length(1)
      await page.evaluate(async () => {
        const { indexedDB } = globalThis as unknown as { indexedDB: { open(name: string): Opening } }
        interface Opening {
          onsuccess: () => void
          result: {
            close(): void
            transaction(names: string[], mode: string): { oncomplete: () => void; objectStore(name: string): Objects }
          }
        }
        interface Objects {
          getAll(): { onsuccess: () => void; result: { key: string; extendedAt: number }[] }
          put(value: object, key: string): void
        }
        await new Promise<void>((done) => {
          const opening = indexedDB.open('lab')
          opening.onsuccess = () => {
            const transaction = opening.result.transaction(['claims'], 'readwrite')
            const claims = transaction.objectStore('claims')
            const all = claims.getAll()
            all.onsuccess = () => {
              for (const claim of all.result) claims.put({ ...claim, extendedAt: claim.extendedAt - 80_000 }, claim.key)
            }
            transaction.oncomplete = () => {
              opening.result.close()
              done()
            }
          }
        })
      })
      await until(() => answers.length === 2)
      answers[1]?.()
      expect((await asking).body).to.equal('answer 2')
      answers[0]?.()
      expect(await late, 'its own caller has what it asked for').to.equal('answer 1')
      expect((await ask(page, '/tides/6')).body).to.equal('answer 2')
    })

    it('tells other tabs what was replaced, invalidated and dropped, so that their near copies go', async () => {
      const [one, two] = [await opened(), await opened()]
      for (const page of [one, two]) await page.evaluate(() => lab.open('one', { near: true }))
      const hows = async (page: Page) => (await ask(page, '/tides/5')).how
      expect([await hows(one), await hows(two), await hows(two)]).to.eql(['forwarded', 'hit', 'hit'])
      const changes = [
        () => one.evaluate(() => lab.stashes.get('one')?.stash.invalidate({ label: 'tides 5' })),
        () => one.evaluate(() => lab.stashes.get('one')?.stash.purge({ provider: 'ebbline' })),
        () => one.evaluate(() => lab.stashes.get('one')?.stash.purge({ label: 'tides 5' })),
      ]
      for (const change of changes) {
        await change()
        await new Promise((resolve) => setTimeout(resolve, 100))
        expect([await hows(two), await hows(one), await hows(two)], String(change)).to.eql(['forwarded', 'hit', 'hit'])
      }
      await one.evaluate(() =>
        lab.stashes.get('one')?.stash.put(`${(globalThis as unknown as { origin: string }).origin}/upstream/tides/5`, new Response('put')),
      )
      await new Promise((resolve) => setTimeout(resolve, 100))
      expect((await ask(two, '/tides/5')).body).to.equal('put')
    })

    it('makes room where the browser gives no more, and within its own bounds, of what was used least recently', async () => {
      const page = await opened()
      const session = await context.newCDPSession(page)
      await session.send('Storage.overrideQuotaForOrigin', { origin: browser.url.replace(/\/$/, ''), quotaSize: 8_000_000 })
      browser.answer = (path, response) => void response.end(path.padEnd(200_000, '.'))
      await page.evaluate(() => lab.open('one', { store: { maxBytes: 1_000_000 } }))
      for (let id = 0; id < 4; id++) await ask(page, `/tides/${id}`)
      await ask(page, '/tides/0')
      for (let id = 4; id < 7; id++) {
        await new Promise((resolve) => setTimeout(resolve, 100))
        expect(await ask(page, `/tides/${id}`)).to.include({ stored: true })
      }
      const has = (id: number) =>
        page.evaluate(
          (of) => lab.stashes.get('one')?.stash.has(`${(globalThis as unknown as { origin: string }).origin}/upstream/tides/${of}`),
          id,
        )
      expect(await Promise.all([0, 1, 2, 6].map(has))).to.eql([true, false, false, true])
      browser.answer = (path, response) => void response.end(path.padEnd(990_000, '.'))
      expect(await ask(page, '/tides/7'), 'nearly all the room there is').to.include({ stored: true })
      expect(await Promise.all([0, 6, 7].map(has))).to.eql([false, false, true])
      await page.evaluate(() => lab.stashes.get('one')?.stash.close())

      browser.answer = (_path, response) => void response.end(randomBytes(375_000).toString('base64'))
      await page.evaluate(() => lab.open('two'))
      let stored = 0
      for (let id = 100; id < 140; id++) {
        const answer = await page.evaluate(async (of) => {
          const { body, ...rest } = await lab.ask(`/tides/${of}`, 'two')
          return { length: body.length, ...rest }
        }, id)
        expect(answer, `call ${id}`).to.include({ how: 'forwarded', length: 500_000 })
        if (answer.stored) stored++
      }
      expect(stored, 'all, but where the browser frees room too late').to.be.at.least(38)
      const [size, warnings] = await page.evaluate(async () => {
        const { stash, warnings: said } = lab.stashes.get('two') as { stash: Stash; warnings: string[] }
        return [(await stash.status()).store, said] as const
      })
      expect(size.entries).to.be.within(2, 20)
      expect(warnings).to.eql([])
    }).timeout(120_000)

    it('that is of a newer version is refused, and one that is deleted while it is open begun anew', async () => {
      const page = await opened()
      const message = await page.evaluate(async () => {
        const { indexedDB } = globalThis as unknown as {
          indexedDB: { open(name: string, version: number): { onsuccess: () => void; result: { close(): void } } }
        }
        await new Promise<void>((resolve) => {
          const request = indexedDB.open('lab', 99)
          request.onsuccess = () => {
            request.result.close()
            resolve()
          }
        })
        return lab.open().then(
          () => 'opened',
          (error: Error) => error.message,
        )
      })
      expect(message).to.include(
        'the IndexedDB database "lab" cannot be opened: it was made by a newer version of Stashen: reload the page',
      )
      await page.evaluate(() => lab.open('other', { store: { name: 'other' } }))
      expect(await ask(page, '/tides/1', 'other')).to.include({ how: 'forwarded', stored: true })
      await page.evaluate(async () => {
        const { indexedDB } = globalThis as unknown as { indexedDB: { deleteDatabase(name: string): { onsuccess: () => void } } }
        await new Promise<void>((resolve) => {
          indexedDB.deleteDatabase('other').onsuccess = () => resolve()
        })
      })
      expect(await ask(page, '/tides/1', 'other')).to.include({ how: 'forwarded', stored: true })
      expect(await ask(page, '/tides/1', 'other')).to.include({ how: 'hit' })
    })
  })
}

async function until(isSo: () => boolean): Promise<void> {
  for (let i = 0; i < 400 && !isSo(); i++) await new Promise((resolve) => setTimeout(resolve, 25))
  if (!isSo()) throw new Error('what was waited for did not come')
}
