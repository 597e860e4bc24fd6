import { spawn, spawnSync } from 'node:child_process'
import { once } from 'node:events'
import { chmodSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { basename } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { memoryStore, openStash, type Store, StoreError } from 'stashen'
import { fileJournal } from 'stashen/journal'
import { sqliteStore } from 'stashen/sqlite'
import { storeContract } from 'stashen/testing'
import { openDriver } from '../src/stores/sqlite/open-driver.js'
import { sampleEntry } from '../src/testing/entry-contract.js'
import { documentedModule } from './support/documented.js'
import { temporaryFolder } from './support/files.js'
import { askedIn, asynchronousStore } from './support/wrapped-store.js'

const { plainStore } = (await import(documentedModule('docs/stores.md', 'function plainStore'))) as { plainStore: () => Store }

describe('stores', () => {
  const file = temporaryFolder()
  let files = 0
  const kinds: [name: string, make: () => Store][] = [
    ['memory', () => memoryStore()],
    ['asynchronous memory', () => asynchronousStore()],
    ['documented', () => plainStore()],
    ['SQLite', () => sqliteStore(file(`contract-${files++}.db`))],
  ]
  for (const [name, make] of kinds) {
    describe(`the ${name} store`, () => {
      for (const { name: rule, run } of storeContract(make)) it(rule, run)
    })
  }

  it('keeps the memory store within its bytes and entries; what was used least recently goes first', async () => {
    const few = memoryStore({ maxEntries: 3 })
    for (const key of ['a', 'b', 'c']) await few.entries.put(sampleEntry(key))
    await few.entries.get('a')
    await few.entries.put(sampleEntry('d'))
    expect(await Promise.all(['a', 'b', 'c', 'd'].map(async (key) => (await few.entries.get(key))?.key))).to.eql(['a', undefined, 'c', 'd'])
    const small = memoryStore({ maxBytes: 10_000 })
    for (let i = 0; i < 50; i++) await small.entries.put(sampleEntry(String(i), { body: new Uint8Array(1_000) }))
    const left = (await Promise.all(Array.from({ length: 50 }, (_, i) => small.entries.get(String(i))))).filter(Boolean)
    expect(left.map((one) => one?.key)).to.eql(['46', '47', '48', '49'])
    await small.entries.put(sampleEntry('huge', { body: new Uint8Array(20_000) }))
    expect(await small.entries.get('huge')).to.equal(undefined)
    expect(await small.entries.get('49'), 'an entry too large does not drive out others').to.not.equal(undefined)
  })

  describe('an SQLite file', () => {
    /** Files that are no usable store, and words of the error. */
    const bad: [name: string, make: (path: string) => void, ...words: string[]][] = [
      ['is text', (path) => writeFileSync(path, 'not a store, '.repeat(50)), 'is not a Stashen store'],
      ['belongs to another program', (path) => withDriver(path, 'CREATE TABLE theirs (a)'), 'is not a Stashen store'],
      ['is a folder', (path) => mkdirSync(path), 'cannot be opened'],
      [
        'was made by a newer version',
        (path) => withDriver(path, `PRAGMA application_id = ${0x53747368}; PRAGMA user_version = 999`),
        'newer version',
      ],
    ]
    for (const [name, make, ...words] of bad) {
      it(`is refused and left as it is when it ${name}`, async () => {
        const path = file(`bad-${files++}`)
        make(path)
        const before = name === 'is a folder' ? undefined : readFileSync(path)
        const error = await openStash({ store: sqliteStore(path) }).catch((thrown: unknown) => thrown)
        expect(error).to.be.instanceOf(StoreError)
        for (const word of [path, ...words]) expect((error as Error).message).to.include(word)
        if (before) expect(readFileSync(path).equals(before)).to.equal(true)
      })
    }

    /** Damages of a store file of ours, by where it is overwritten. */
    const damages: [what: string, from: number, until: number][] = [
      ['in its tables, which shows only in use', 2 * 4096, 1_000_000],
      ['in its schema, which shows at opening', 100, 4096],
    ]
    for (const [what, from, until] of damages) {
      it(`that is corrupt ${what}, is set aside loudly, and a new one begun`, async () => {
        const path = file(`damaged-${files++}.db`)
        const plan = { currency: 'EUR', perCall: '0.01' }
        const open = (said: string[]) =>
          openStash({ store: sqliteStore(path), providers: { skerrylight: { plan } }, warn: (message) => void said.push(message) })
        const rule = { freshFor: '1 day' } as const
        const first = await open([])
        const find = first.operation('skerrylight.find', async (name: string) => name.repeat(500), rule)
        for (let i = 0; i < 200; i++) await find(`Marram ${i}`)
        await first.close()
        const bytes = readFileSync(path)
        bytes.fill(0x5a, from, Math.min(until, bytes.byteLength))
        writeFileSync(path, bytes)
        const said: string[] = []
        const second = await open(said)
        const again = second.operation('skerrylight.find', async (name: string) => name, rule)
        for (let i = 0; i < 20; i++) expect(await again(`Marram ${i}`)).to.equal(`Marram ${i}`)
        expect((await again.withOutcome('Marram 3')).outcome.how).to.equal('hit')
        expect((await second.report()).totals.with).to.deep.include({
          asked: 21,
          upstream: 20,
          money: [{ currency: 'EUR', amount: '0.2' }],
        })
        await second.close()
        expect(said.join()).to.include('is corrupt').and.include('renamed')
        const aside = readdirSync(file('.')).filter((name) => name.startsWith(basename(path)) && /\.corrupt-[\dTZ-]+$/.test(name))
        expect(aside).to.have.length(1)
        expect(readFileSync(file(aside[0] ?? '')).equals(bytes), 'and left as it was').to.equal(true)
      })
    }

    it('is given back when its stash is closed: no file handle stays open, and nothing beside it', async () => {
      const handles = () => readdirSync('/proc/self/fd').length
      const before = handles()
      for (let i = 0; i < 40; i++) {
        const stash = await openStash({ store: sqliteStore(file(`closed-${i % 2}.db`)) })
        const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
        await find(`Marram ${i}`)
        await stash.close()
      }
      expect(handles()).to.be.at.most(before + 2)
      expect(readdirSync(file('.')).filter((name) => /^closed-\d\.db-/.test(name))).to.eql([])
    })

    it('is refused in a folder that does not exist, while locked, and when it may only be read', async () => {
      const messageOf = (path: string) =>
        openStash({ store: sqliteStore(path) }).then(
          () => 'opened',
          (error: Error) => error.message,
        )
      expect(await messageOf(file('no/such/folder.db'))).to.include('cannot be opened')
      const path = file('locked.db')
      await (await openStash({ store: sqliteStore(path) })).close()
      const other = openDriver(path)
      other.exec('BEGIN EXCLUSIVE')
      expect(await messageOf(path)).to.include('is locked by another process')
      other.exec('COMMIT')
      other.close()
      chmodSync(path, 0o444)
      chmodSync(file('.'), 0o755)
      const { stdout } = spawnSync(process.execPath, [unprivileged, path], { encoding: 'utf8' })
      expect(stdout).to.include('cannot be written')
    })

    it('is shared by two processes: counts add up exactly, and an entry of one is a hit of the other', async () => {
      const path = file('shared.db')
      const counters = [1, 2].map(() => spawn(process.execPath, [counting, path, '1.5']))
      const counted = (await Promise.all(counters.map(linesOf))).map((lines) => lines.at(-1)?.[0] ?? 0)
      const stash = await openStash({ store: sqliteStore(path) })
      const { totals } = await stash.report()
      expect(totals.with?.asked).to.equal(counted.reduce((sum, count) => sum + count))
      const find = stash.operation('skerrylight.find', async (name: string) => name, { freshFor: '1 day' })
      expect((await find.withOutcome('Marram 3')).outcome.how).to.equal('hit')
      await stash.close()
    })

    it('has lost at most one second of counts after a kill -9, and the journal of calls', async () => {
      const path = file('killed.db')
      const counter = spawn(process.execPath, [counting, path])
      const written = linesOf(counter)
      await once(counter.stdout, 'data')
      await new Promise((resolve) => setTimeout(resolve, 2_500))
      counter.kill('SIGKILL')
      const lines = await written
      const [total = 0, killedAt = 0] = lines.at(-1) ?? []
      const [secondOld = 0] = lines.findLast(([, at = 0]) => at <= killedAt - 1_000) ?? []
      const store = sqliteStore(path)
      await store.open({ now: Date.now(), warn: () => {} })
      const asked = await askedIn(store)
      await store.close()
      expect(secondOld).to.be.above(0)
      expect(asked).to.be.at.least(secondOld)
      // one call may have been counted and written before its line was
      expect(asked).to.be.at.most(total + 1)
      let journaled = 0
      for await (const line of fileJournal(`${path}.jsonl`).read()) if ((JSON.parse(line) as { is: string }).is === 'call') journaled++
      expect(journaled).to.be.within(secondOld, total + 1)
    })
  })
})

const unprivileged = fileURLToPath(new URL('./support/unprivileged.process.js', import.meta.url))
const counting = fileURLToPath(new URL('./support/counting.process.js', import.meta.url))

/** The numbers on the whole lines that a process wrote before it ended. */
async function linesOf(child: ReturnType<typeof spawn>): Promise<number[][]> {
  let written = ''
  child.stdout?.on('data', (data: Buffer) => {
    written += data
  })
  await once(child, 'close')
  return written
    .split('\n')
    .slice(0, -1)
    .map((line) => line.split(' ').map(Number))
}

function withDriver(path: string, sql: string): void {
  const driver = openDriver(path)
  driver.exec(sql)
  driver.close()
}
