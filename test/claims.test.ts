import { type ChildProcess, spawn } from 'node:child_process'
import { once } from 'node:events'
import { createServer, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { createInterface } from 'node:readline'
import { setTimeout as pause } from 'node:timers/promises'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { openDriver } from '../src/stores/sqlite/open-driver.js'
import { temporaryFolder } from './support/files.js'
import { haveRedis } from './support/needs.js'
import { RedisServer, startCluster } from './support/redis-server.js'
import { isLong } from './support/scale.js'

const crowd = fileURLToPath(new URL('./support/crowd.process.js', import.meta.url))

/** How many calls had an answer, by what it was and how it came. */
type Counts = Readonly<Record<string, number>>

/** A process that does what it is told. */
class Member {
  readonly #child: ChildProcess
  readonly #waiting = new Map<string, (what: Counts) => void>()
  readonly ready: Promise<Counts>

  constructor(store: string, base: string) {
    this.#child = spawn(process.execPath, [crowd, store, base], { stdio: ['pipe', 'pipe', 'inherit'] })
    this.ready = new Promise((resolve) => this.#waiting.set('ready', resolve))
    createInterface(this.#child.stdout as NodeJS.ReadableStream).on('line', (text) => {
      const [line, what] = JSON.parse(text) as [string, Counts]
      this.#waiting.get(line)?.(what)
    })
  }

  get pid(): string {
    return String(this.#child.pid)
  }

  /** What came of it. */
  told(line: string): Promise<Counts> {
    this.#child.stdin?.write(`${line}\n`)
    return new Promise((resolve) => this.#waiting.set(line, resolve))
  }

  /** Waits for a line that it writes of itself. */
  heard(line: string): Promise<Counts> {
    return new Promise((resolve) => this.#waiting.set(line, resolve))
  }

  kill(signal: NodeJS.Signals): void {
    this.#child.kill(signal)
  }

  async end(): Promise<void> {
    if (this.#child.exitCode !== null || this.#child.signalCode !== null) return
    const exit = once(this.#child, 'exit')
    this.#child.stdin?.write('close\n')
    await exit
  }
}

/** Has a process stand still, but not while it writes to an SQLite file: nobody could use that then, and each would ask for itself. */
async function stopBetweenWrites(member: Member, path: string | undefined): Promise<void> {
  member.kill('SIGSTOP')
  if (path === undefined) return
  const file = openDriver(path)
  for (let isLocked = true; isLocked; ) {
    try {
      file.exec('BEGIN IMMEDIATE; COMMIT')
      isLocked = false
    } catch {
      member.kill('SIGCONT')
      await pause(20)
      member.kill('SIGSTOP')
    }
  }
  await file.close()
}

let redis: RedisServer
let cluster: RedisServer[]
const file = temporaryFolder()
const most = isLong ? 8 : 3
const kinds: [name: string, processes: number, place: (name: string) => string][] = [['an SQLite file', most, file]]
if (haveRedis('one upstream call of many processes')) {
  before(async function () {
    this.timeout(60_000)
    redis = await RedisServer.start()
    if (isLong) cluster = await startCluster()
  })
  after(() => Promise.all([redis, ...(cluster ?? [])].map((server) => server.remove())))
  kinds.push(['a Redis server', most, (name) => `${redis.url}?prefix=${name}`])
  if (isLong)
    kinds.push(
      ['an encrypted Redis server behind near layers', 4, (name) => `near:sealed:${redis.url}?prefix=near-${name}`],
      ['a Redis cluster', most, (name) => `cluster:${cluster.map(({ port }) => port).join(',')}?prefix=${name}`],
    )
}

for (const [kind, processes, place] of kinds)
  describe(`processes that share ${kind}`, function () {
    this.timeout(60_000)
    let asked: { path: string; pid: string; response: ServerResponse }[] = []
    /** Answers a request; `number`: how many there were for its path. */
    let answer = (_response: ServerResponse, _number: number, _path: string) => {}
    const server = createServer((request, response) => {
      const path = String(request.url)
      asked.push({ path, pid: String(request.headers['user-agent']), response })
      answer(response, callsOf(path), path)
    })
    const callsOf = (path: string) => asked.filter((one) => one.path === path).length
    let base = ''
    const members: Member[] = []
    const join = (store: string) => {
      const member = new Member(place(store), base)
      members.push(member)
      return member
    }
    before(async () => {
      await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
      base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
      for (let i = 0; i < processes; i++) join('store')
      for (const { ready } of members) await ready
    })
    after(async () => {
      for (const { response } of asked) response.end()
      await Promise.all(members.map((member) => member.end()))
      server.closeAllConnections()
      server.close()
    })
    beforeEach(() => {
      asked = []
    })

    const sum = (all: readonly Counts[]): Counts => {
      const counts: Record<string, number> = {}
      for (const one of all) for (const [name, count] of Object.entries(one)) counts[name] = (counts[name] ?? 0) + count
      return counts
    }
    const callOf = async (path: string) => {
      for (let tries = 0; ; tries++) {
        const found = asked.find((one) => one.path === path)
        if (found) return found
        expect(tries).to.be.below(2_000)
        await pause(5)
      }
    }

    const callsOfEach = isLong ? 500 : 100

    it(`make one upstream call of ${processes} x ${callsOfEach} simultaneous ones, quick or slow`, async () => {
      for (const [path, isSlow] of [
        ['/tides/quick', false],
        ['/tides/slow', true],
      ] as const) {
        const asked = Promise.all(members.map((member) => member.heard(`asked ${path}`)))
        answer = async (response, number) => {
          if (isSlow) await asked.then(() => pause(50))
          response.end(String(number))
        }
        const all = sum(await Promise.all(members.map((member) => member.told(`ask ${path} ${callsOfEach}`))))
        expect(callsOf(path), path).to.equal(1)
        const { '1 forwarded': forwarded, '1 collapsed': collapsed = 0, '1 hit': hits = 0, ...others } = all
        expect(others, path).to.eql({})
        expect([forwarded, collapsed + hits], path).to.eql([1, callsOfEach * processes - 1])
        if (isSlow) expect(hits, 'whoever asks while it is on its way waits for it').to.be.below((callsOfEach / 2) * processes)
      }
    })

    // claims hold for five seconds
    if (isLong)
      it('wait for one that takes long, and where its process is killed or stands still no longer than a claim holds: what that brings is not stored', async () => {
        answer = (response, number, path) => {
          if (path === '/tides/long') setTimeout(() => response.end('1'), 6_500)
          else if (number > 1) response.end('2')
        }
        const [ones, others] = [members.slice(0, processes / 2), members.slice(processes / 2)]
        const [caller, ...sleepers] = ones as [Member, ...Member[]]
        const long = [caller.told('ask /tides/long 5')]
        await callOf('/tides/long')
        long.push(...others.map((member) => member.told('ask /tides/long 5')))
        const killed = others.map((member) => ({ member, heard: member.told('ask /tides/killed 500') }))
        const victim = await callOf('/tides/killed')
        const began = performance.now()
        killed.find(({ member }) => member.pid === victim.pid)?.member.kill('SIGKILL')
        const askPaused = (member: Member) => ({ member, heard: member.told('ask /tides/paused 20') })
        const paused = sleepers.map(askPaused)
        const still = await callOf('/tides/paused')
        const sleeper = paused.find(({ member }) => member.pid === still.pid)?.member as Member
        await stopBetweenWrites(sleeper, kind === 'an SQLite file' ? place('store') : undefined)
        still.response.end('1')
        paused.push(...others.filter(({ pid }) => pid !== victim.pid).map(askPaused))

        const awake = ({ member }: { member: Member }) => member !== sleeper && member.pid !== victim.pid
        const afterKill = sum(await Promise.all(killed.filter(awake).map(({ heard }) => heard)))
        expect(performance.now() - began).to.be.within(2_000, 12_000)
        const afterPause = sum(await Promise.all(paused.filter(awake).map(({ heard }) => heard)))
        sleeper.kill('SIGCONT')
        await Promise.all(paused.map(({ heard }) => heard))
        for (const [got, path, times] of [
          [afterKill, '/tides/killed', 500 * killed.filter(awake).length],
          [afterPause, '/tides/paused', 20 * paused.filter(awake).length],
        ] as const) {
          const { '2 forwarded': forwarded = 0, '2 collapsed': collapsed = 0, '2 hit': hits = 0, ...rest } = got
          expect(rest, path).to.eql({})
          expect([forwarded, forwarded + collapsed + hits], path).to.eql([1, times])
          expect(callsOf(path), path).to.equal(2)
          answer = (response) => void response.end('2')
          for (const member of members) {
            if (member.pid === victim.pid) continue
            let later = await member.told(`ask ${path} 3`)
            // who stood still may have to connect to its store again
            for (let i = 0; member === sleeper && !later['2 hit'] && i < 100; i++)
              later = await pause(100).then(() => member.told(`ask ${path} 3`))
            expect(later, path).to.eql({ '2 hit': 3 })
          }
        }
        const [own, ...waited] = await Promise.all(long.filter((_, i) => others[i - 1]?.pid !== victim.pid))
        expect(own).to.eql({ '1 forwarded': 1, '1 collapsed': 4 })
        for (const got of waited) expect(got).to.eql({ '1 collapsed': 5 })
        expect(callsOf('/tides/long')).to.equal(1)
        members.splice(
          members.findIndex(({ pid }) => pid === victim.pid),
          1,
        )
      })

    it('give what arrives to those who wait in others while it does, to its end, whoever leaves or dies on the way; a call more counts as one', async () => {
      const [first, second, third] = isLong ? [join('shown'), join('shown'), join('shown')] : (members as [Member, Member, Member])
      for (const { ready } of [first, second, third]) await ready
      const others = [second, third]
      let rest = ', rising'
      /** Has the first one ask, and the others once its answer has begun, and returns what these came to. */
      const shown = async (path: string, next: (response: ServerResponse) => unknown) => {
        answer = (response, number) => {
          response.setHeader('cache-control', 'max-age=60')
          response.setHeader('etag', path === '/tides/altered' ? `"${number}"` : '"1"')
          response.write('2.4 m')
          if (number > 1) response.end(rest)
        }
        const own = first.told(`read ${path}`)
        await first.heard(`first ${path}`)
        const begun = others.map((member) => member.heard(`first ${path}`))
        const told = others.map((member) => member.told(`read ${path}`))
        await Promise.all(begun)
        expect(callsOf(path), 'it is not complete by then').to.equal(1)
        await next((await callOf(path)).response)
        return { own, all: sum(await Promise.all(told)) }
      }
      const whole = await shown('/tides/arriving', (response) => response.end(rest))
      expect(whole.all).to.eql({ [`2.4 m${rest} collapsed`]: 2 })
      expect(await whole.own).to.eql({ [`2.4 m${rest} forwarded`]: 1 })
      expect(callsOf('/tides/arriving')).to.equal(1)
      expect(await second.told('ask /tides/arriving 3'), 'stored once').to.eql({ [`2.4 m${rest} hit`]: 3 })

      const left = await shown('/tides/left', async (response) => {
        await first.told('leave /tides/left')
        await pause(80)
        response.end(rest)
      })
      expect(left.all).to.eql({ [`2.4 m${rest} collapsed`]: 2 })
      expect(Object.keys(await left.own).join()).to.match(/abort/i)
      expect(callsOf('/tides/left')).to.equal(1)

      const broken = await shown('/ships/broken', (response) => response.destroy())
      expect(Object.keys(broken.all).join()).to.match(/broke off/)
      expect(callsOf('/ships/broken')).to.equal(1)

      rest = '.'.repeat(1_200_000)
      const large = await shown('/tides/large', (response) => response.end(rest))
      const { '1200005 bytes forwarded': forwarded = 0, '1200005 bytes collapsed': collapsed = 0, ...more } = large.all
      expect([more, forwarded + collapsed]).to.eql([{}, 2])
      expect(callsOf('/tides/large'), 'of what is too large to be kept, each its own').to.equal(1 + forwarded)

      const altered = await shown('/tides/altered', (response) => response.end(rest))
      expect(Object.keys(altered.all).join(), 'nobody gets the end of another answer').to.match(/broke off/)

      if (!isLong) return
      rest = ', rising'
      await pause(1_500) // each process writes its counts every second
      const totalsBefore = await second.told('totals')
      const killed = await shown('/tides/lost', () => first.kill('SIGKILL'))
      expect(killed.all).to.eql({ [`2.4 m${rest} forwarded`]: 1, [`2.4 m${rest} collapsed`]: 1 })
      expect(callsOf('/tides/lost')).to.equal(2)
      await pause(1_500)
      const totals = await second.told('totals')
      for (const [name, more] of [
        ['asked', 2],
        ['upstream', 1],
      ] as const)
        expect((totals[name] ?? 0) - (totalsBefore[name] ?? 0), name).to.equal(more)
      members.splice(members.indexOf(first), 1)
    })

    if (isLong || kind.includes('SQLite'))
      it('do not bring back what was purged or invalidated while it was on its way, however long others have had the store open', async () => {
        const first = join('purged') // alone, at first
        await first.ready
        answer = (response, number) => {
          if (number > 1) response.end('new')
        }
        for (const [i, how] of (isLong ? ['purge', 'invalidate', 'purge'] : ['purge', 'invalidate']).entries()) {
          const path = `/tides/${how}-${i}`
          const heard = first.told(`ask ${path} 5`)
          const { response } = await callOf(path)
          const other = i === 1 ? (members.at(-1) as Member) : join('purged')
          await other.ready
          await other.told(how)
          response.end('old')
          const { 'old forwarded': own, ...joined } = await heard
          expect(own, 'who asked before has what came').to.equal(1)
          expect(
            Object.keys(joined).filter((name) => !name.startsWith('new')),
            'who joined may have done so since',
          ).to.eql([])
          await pause(50)
          for (const member of [other, first])
            expect(Object.keys(await member.told(`ask ${path} 1`))[0], how).to.be.oneOf(['new hit', 'new collapsed'])
          expect(callsOf(path), how).to.equal(2)
        }
      })

    if (!kind.includes('near'))
      it('give nobody who asks after a purge or an invalidation, in whatever process, what left before', async () => {
        let version = 0
        let floor = 0
        answer = (response) => {
          const body = String(version)
          setTimeout(() => response.end(body), Math.random() * 60)
        }
        const end = performance.now() + (isLong ? 2_500 : 100)
        let answers = 0
        const goesOn = () => performance.now() < end || answers <= 100 || floor <= 20 // on a machine as slow as it may be
        const asks = async (member: Member, id: number) => {
          for (let i = 0; goesOn(); i++) {
            const least = floor
            const got = await member.told(`ask /tides/p 2 ${id}-${i}`)
            for (const name of Object.keys(got)) expect(Number.parseInt(name, 10), name).to.be.at.least(least)
            answers += 2
          }
        }
        const changes = async (member: Member, id: number) => {
          for (let i = 0; goesOn(); i++) {
            const newer = ++version
            const done = await member.told(`${i % 2 ? 'purge' : 'invalidate'} ${id}-${i}`)
            expect(done).to.have.property('entries')
            floor = Math.max(floor, newer)
            await pause(Math.random() * 40)
          }
        }
        const [one, two, three] = members as [Member, Member, Member]
        await Promise.all([one, two, three, one, two, three].map(asks).concat([changes(one, 1), changes(two, 2)]))
        expect(floor).to.be.above(20)
        expect(answers).to.be.above(100)
      })

    it('wait once at the most for what they could not have: an answer that nobody may share, that fails, or that is not kept', async () => {
      const few = members.slice(0, 3)
      for (const [path, most, status, control] of [
        ['/ships/for-one', 15, 200, 'no-store'],
        ['/ships/stale', 15, 200, 'max-age=0'],
        ['/ships/failing', 3, 503, ''],
        ['/tides/missing', 3, 404, ''],
      ] as const) {
        answer = (response) => void setTimeout(() => response.writeHead(status, control ? { 'cache-control': control } : {}).end('it'), 60)
        const began = performance.now()
        const got = sum(await Promise.all(few.map((member) => member.told(`ask ${path} 5`))))
        expect((got['it forwarded'] ?? 0) + (got['it collapsed'] ?? 0), `${path} ${JSON.stringify(got)}`).to.equal(15)
        expect(callsOf(path), path).to.be.within(3, most)
        expect(performance.now() - began, path).to.be.below(4_500)
      }
    })
  })
