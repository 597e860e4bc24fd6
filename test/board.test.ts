import { expect } from 'chai'
import type { Browser, Page } from 'playwright-core'
import { type Board, startBoard } from '../examples/board/serve.js'
import { haveChromium } from './support/needs.js'
import { browserOfRun } from './support/shared-by-suites.js'

if (haveChromium('the departures board in a browser')) {
  describe('the departures board in a browser', () => {
    let board: Board
    let browser: Browser
    let page: Page
    const errors: string[] = []
    const patience = { timeout: 120_000 }
    const source = (tile: string, how: string) => page.waitForSelector(`[data-tile="${tile}"] [data-how="${how}"]`, patience)
    const textOf = (tile: string) => page.textContent(`[data-tile="${tile}"]`)

    before(async () => {
      board = await startBoard(0, 0.02)
      browser = await browserOfRun()
      page = await (await browser.newContext()).newPage()
      page.on('pageerror', (error) => errors.push(error.message))
      await page.clock.install()
      await page.goto(board.url, patience)
    })
    after(async () => {
      await browser?.close()
      await board?.close()
    })

    it('shows tide, three vessels and dues, each from the stash and with its age', async () => {
      for (const tile of ['tides', 'Marram', 'Sandwort', 'Thrift', 'dues']) {
        await source(tile, 'hit')
        expect(await textOf(tile)).to.match(/from the stash, fresh[\s\S]*(new|s old)/)
      }
      expect(await textOf('dues')).to.include('EUR')
      await page.waitForSelector('[data-saved]:not([data-saved="0"])', patience)
    })

    it('keeps the older answer and says so while an upstream is cut, and recovers', async () => {
      const asked = () =>
        Object.values(board.harbour.providers.ebbline.counts).reduce((sum, { answered, failed }) => sum + answered + failed, 0)
      await page.click('text=Cut ebbline')
      await page.clock.fastForward(21_000)
      await source('tides', 'stale')
      expect(await textOf('tides'))
        .to.include('older answer: ebbline fails')
        .and.include('high')
      await source('dues', 'hit')
      const before = asked()
      await page.click('text=Restore ebbline')
      await page.clock.fastForward(11_000)
      await source('tides', 'hit')
      expect(asked()).to.be.above(before)
      expect(errors).to.eql([])
    })

    it('shows after a reload what it had, while every upstream is cut', async () => {
      for (const name of ['ebbline', 'skerrylight', 'quayrate']) await page.click(`text=Cut ${name}`)
      await page.reload(patience)
      for (const tile of ['tides', 'Marram', 'dues']) {
        await page.waitForSelector(`[data-tile="${tile}"] [data-how="hit"], [data-tile="${tile}"] [data-how="stale"]`, patience)
        expect(await textOf(tile)).to.match(/from the stash, fresh|older answer/)
      }
      expect(errors).to.eql([])
    })
  })
}
