import axe from 'axe-core'
import { expect } from 'chai'
import type { Browser } from 'playwright-core'
import { memoryStore, openStash, type Report } from 'stashen'
import { FastClock } from 'stashen/harbour'
import { renderHtml } from 'stashen/render'
import { haveChromium } from './support/needs.js'
import { isLong } from './support/scale.js'
import { browserOfRun } from './support/shared-by-suites.js'
import { noon } from './support/upstream.js'

/** Calls of some hours, to a provider of which everything is to be told that a report can tell. */
async function reportOf(hours: number): Promise<Report> {
  const clock = new FastClock(noon - 12 * 3_600_000)
  const stash = await openStash({
    ...{ clock, store: memoryStore({ maxEntries: 20 }), warn: () => {} },
    providers: {
      pintle: {
        plan: { currency: 'EUR', period: 'month', baseFee: '10', perCall: '0.004' },
        ...{ quota: { calls: 400, per: 'day' }, budgets: [{ money: '0.5' }] },
      },
    },
  })
  const answers = stash.operation('pintle.answers', async (question: string) => question, { freshFor: '2 hours', countBy: 'label' })
  const ask = answers.calling({ label: 'board <1>' })
  await clock.run(
    (async () => {
      for (let i = 0; i < hours * 30; i++) {
        await ask(`question ${(i * 7) % 40}`).catch(() => undefined)
        await clock.sleep(120_000 - 1)
      }
    })(),
  )
  const report = await stash.report({ by: 'hour' })
  await stash.close()
  return report
}

if (haveChromium('the HTML report in a browser')) {
  describe('the HTML report in a browser', () => {
    let browser: Browser
    before(async () => {
      browser = await browserOfRun()
    })
    after(() => browser?.close())

    it('has nothing that axe reports, fits a phone, shows a single hour, and has a table of data for each chart', async () => {
      for (const [hours, width, colorScheme] of [
        [10, 390, 'dark'],
        [0, 1280, 'light'],
        ...(isLong
          ? ([
              [10, 1280, 'light'],
              [1, 390, 'light'],
            ] as const)
          : []),
      ] as const) {
        const what = `${hours} hours, ${width} wide, ${colorScheme}`
        const report = await reportOf(hours)
        const page = await browser.newPage({ viewport: { width, height: 800 }, colorScheme })
        await page.setContent(await renderHtml(report, { zone: 'Europe/Oslo' }))
        for (const closed of await page.$$('summary')) await closed.click()
        await page.evaluate(axe.source)
        const violations = await page.evaluate(
          'axe.run().then(({ violations }) => violations.map(({ id, nodes }) => id + ": " + nodes[0].html))',
        )
        expect(violations, what).to.eql([])
        expect(await page.evaluate('document.documentElement.scrollWidth'), what).to.be.at.most(width)
        const figures = await page.$$('figure')
        expect(figures.length, what).to.equal(hours === 0 ? 0 : 5)
        for (const figure of figures) {
          expect(
            await figure.$$eval('svg path[fill]:not([fill="none"]), svg polyline, svg path[stroke]', (marks) => marks.length),
            what,
          ).to.be.above(0)
          expect(await figure.$$eval('details tbody tr', (rows) => rows.length), what).to.be.above(0)
        }
        if (hours === 0) continue
        const [outcomes] = await page.$$eval('figure:first-of-type details tbody', (bodies) => bodies.map((body) => [...body.querySelectorAll('tr')].map((row) => [...row.querySelectorAll('td')].map((cell) => Number(cell.textContent?.replace(',', '')))))) // biome-ignore format: a row a line
        const sum = (column: number) => (outcomes ?? []).reduce((total, cells) => total + (cells[column] ?? 0), 0)
        const { saved, with: made } = report.totals
        expect([sum(0), sum(3)], 'the chart counts as the cards do').to.eql([saved?.calls, made?.withheld])
        expect((outcomes ?? []).flat().reduce((total, cell) => total + cell, 0)).to.equal(made?.asked)
        const text = (await page.textContent('main')) ?? ''
        for (const words of ['budget of EUR 0.5 per month', 'board <1>', 'evicted', 'refused']) expect(text, what).to.include(words)
        await page.close()
      }
    })
  })
}
