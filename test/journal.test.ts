import { appendFileSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { setTimeout as pause } from 'node:timers/promises'
import { expect } from 'chai'
import { type Journal, type JournalLine, openStash } from 'stashen'
import { fileJournal } from 'stashen/journal'
import { temporaryFolder } from './support/files.js'
import { withQuickTimers } from './support/quick-timers.js'
import { json, scene } from './support/upstream.js'

const linesOf = async (journal: Pick<Journal, 'read'>): Promise<string[]> => {
  const lines: string[] = []
  for await (const line of journal.read()) lines.push(line)
  return lines
}

describe('the journal', () => {
  const file = temporaryFolder()

  it('holds one line for each call of the application and each upstream, by key and without a secret', () => {
    const journal = fileJournal(file('calls.jsonl'))
    return scene(
      async (now) => {
        const { stash, base, clock } = now
        now.answer = (request, response) =>
          json(() => ({ usage: { tokens: 7 } }), request.url?.includes('gone') ? 503 : 200)(request, response)
        const get = (path: string) => stash.fetch(`${base}${path}`, { headers: { authorization: 'Bearer s3cret' } })
        await (await get('/tides/a?key=s3cret')).text()
        await (await get('/tides/a?key=s3cret')).text()
        await (await get('/tides/gone?key=s3cret')).text()
        await (await stash.fetch(`${base}/notes?key=s3cret`, { method: 'POST', body: 's3cret' })).text()
        await clock.sleep(1_000)
        await stash.report() // which waits for what is being written
        const texts = await linesOf(journal)
        expect(texts.join('\n')).not.to.include('s3cret')
        const lines = texts.map((text) => JSON.parse(text) as JournalLine)
        expect(lines.map((line) => (line.is === 'lost' ? line : [line.is, line.endpoint, line.how]))).to.have.deep.members([
          ['upstream', 'tides', 'answered'],
          ['call', 'tides', 'forwarded'],
          ['call', 'tides', 'hit'],
          ['upstream', 'tides', 'failed'],
          ['call', 'tides', 'failed'],
          ['upstream', '(unmatched)', 'answered'],
          ['call', '(unmatched)', 'passed'],
        ])
        const [made] = lines.filter(({ is }) => is === 'upstream')
        expect(made).to.deep.include({
          provider: 'ebbline',
          mode: 'reuse',
          status: 200,
          attempt: 1,
          units: { tokens: 7 },
          inBackground: false,
        })
        const report = await stash.report({ by: 'key' })
        expect(report.byKey?.journal).to.deep.include({ lines: 7, skipped: 0, lost: 0 })
        expect(report.byKey?.list[0]).to.deep.include({ asked: 2, upstream: 1, fromStore: 1, saved: 1, errored: 0 })
        expect(report.byKey?.list[0]?.key).to.match(/^GET .*\/tides\/a ebbline\.tides caller:/)
        const later = await stash.report({ by: 'key', since: now.clock.now() + 60_000 })
        expect(later.byKey).to.deep.include({ keys: 0, list: [] })
      },
      {
        config: { journal },
        provider: {
          secretQuery: ['key'],
          plan: { currency: 'EUR', units: { tokens: { price: '1' } } },
          endpoints: { tides: { request: 'GET /tides/{day}', freshFor: '1 min', units: { tokens: { at: '/usage/tokens' } } } },
        },
      },
    )
  })

  it('skips a line that was cut off, counts it, and loses none of those written after it', async () => {
    const path = file('cut.jsonl')
    const find = async (times: number) => {
      const stash = await openStash({ journal: fileJournal(path) })
      const call = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
      for (let i = 0; i < times; i++) await call('Marram')
      return stash
    }
    await (await find(3)).close()
    appendFileSync(path, '{"is":"call","at":"2026-06-')
    const stash = await find(2)
    const { byKey } = await stash.report({ by: 'key' })
    expect(byKey?.journal).to.deep.include({ lines: 7, skipped: 1 })
    expect(byKey?.list).to.eql([
      {
        provider: 'skerrylight',
        endpoint: 'find',
        key: 'skerrylight.find["Marram"]',
        asked: 5,
        upstream: 2,
        fromStore: 3,
        errored: 0,
        saved: 3,
      },
    ])
    await stash.close()
    writeFileSync(path, 'no line at all\n[]\nnull\n{"is":"call"}\n')
    expect((await (await find(0)).report({ by: 'key' })).byKey?.journal).to.deep.include({ lines: 0, skipped: 4 })
  })

  it('keeps to so many files of so many bytes, each of whole lines, however many write', async () => {
    const path = file('full/calls.jsonl')
    const journals = [1, 2].map(() => fileJournal(path, { maxBytes: 2_000, keep: 3 }))
    const line = (n: number) => JSON.stringify({ is: 'call', at: new Date(n).toISOString(), n, filler: 'x'.repeat(100) })
    for (let n = 0; n < 100; n++) {
      await Promise.all(journals.map((journal, i) => journal.write([line(2 * n + i)])))
      await new Promise((resolve) => setTimeout(resolve, 2))
    }
    const names = readdirSync(file('full'))
    expect(names).to.have.length(4)
    for (const name of names) {
      expect(statSync(file(`full/${name}`)).size).to.be.below(2_400)
      for (const text of readFileSync(file(`full/${name}`), 'utf8')
        .trimEnd()
        .split('\n'))
        expect(JSON.parse(text).filler).to.have.length(100)
    }
    const numbers = (await linesOf(journals[0] as Journal)).map((text) => (JSON.parse(text) as { n: number }).n)
    expect(numbers.slice().sort((a, b) => a - b)).to.eql(Array.from({ length: numbers.length }, (_, i) => 200 - numbers.length + i))
  })

  it('keeps lines that could not be written, says so once, and never holds a call up', async () => {
    const [written, warnings]: [string[], string[]] = [[], []]
    let fails = true
    const journal: Journal = {
      write(lines) {
        if (fails) throw new Error('disk full')
        written.push(...lines)
      },
      async *read() {},
      close() {},
    }
    await scene(
      async ({ stash, base, clock }) => {
        await withQuickTimers(async () => {
          for (let i = 0; i < 5; i++) {
            await (await stash.fetch(`${base}/tides/a`)).text()
            await clock.errand(pause(20))
          }
          fails = false
          while (written.length < 6) await clock.errand(pause(5))
        })
        expect(written.map((text) => (JSON.parse(text) as JournalLine).is)).to.have.length(6)
      },
      { config: { journal, warn: (message) => void warnings.push(message) } },
    )
    expect(warnings).to.have.length(1)
    expect(warnings[0]).to.include('the journal cannot be written').and.include('disk full')
  })

  it('is asked for by whoever wants keys, and said to be missing', async () => {
    const stash = await openStash()
    expect(await stash.report({ by: 'key' }).catch(String)).to.include('"by" is "key", for which a journal is needed')
    expect(await stash.report({ by: 'colour' } as never).catch(String)).to.include('give "endpoint", "provider", "hour", "day", "key"')
    await stash.close()
  })
})
