import { once } from 'node:events'
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http'
import type { AddressInfo } from 'node:net'
import { expect } from 'chai'
import { BrokenBodyError, type EndpointOptions, isStashenError, openStash, type Stash } from 'stashen'

type Answer = (response: ServerResponse, request: IncomingMessage) => void

interface Quay {
  readonly stash: Stash
  readonly base: string
  /** Requests that arrived, and those whose caller hung up before the end. */
  readonly received: string[]
  readonly hungUp: string[]
  answer: Answer
}

/** A real server and the runtime's own `fetch`, with the server deciding when each piece is sent. */
async function quay(play: (quay: Quay) => Promise<void>, tides: Partial<EndpointOptions> = {}): Promise<void> {
  const received: string[] = []
  const hungUp: string[] = []
  const server = createServer((request, response) => {
    received.push(`${request.method} ${request.url}`)
    response.on('close', () => {
      if (!response.writableFinished) hungUp.push(`${request.url}`)
    })
    now.answer(response, request)
  })
  await new Promise<void>((listening) => server.listen(0, '127.0.0.1', listening))
  const base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`
  const endpoints = { tides: { request: 'GET /*', freshFor: '1 min', holdOff: 0, ...tides } as EndpointOptions }
  const stash = await openStash({ providers: { ebbline: { baseUrl: base, timeout: '5 s', secretQuery: ['key'], endpoints } } })
  const now: Quay = { stash, base, received, hungUp, answer: (response) => response.end('tide') }
  try {
    await play(now)
    await stash.close()
  } finally {
    server.closeAllConnections()
    server.close()
  }
}

const decoder = new TextDecoder()

/** Reads pieces of a body one by one. */
function pieces(response: Response): () => Promise<string | undefined> {
  const reader = response.body?.getReader()
  return async () => {
    const { done, value } = (await reader?.read()) ?? { done: true }
    return done ? undefined : decoder.decode(value)
  }
}

/** Waits for something that another party does soon. */
async function until(holds: () => boolean): Promise<void> {
  while (!holds()) await new Promise((turn) => setTimeout(turn, 5))
}

describe('bodies', () => {
  it('reach every caller piece by piece as they come, are stored when whole, and are nobody else’s to change', () =>
    quay(async (now) => {
      let send = (_text: string) => {}
      let end = () => {}
      now.answer = (response) => {
        response.writeHead(200, { 'content-type': 'text/event-stream; charset=utf-8' })
        send = (text) => response.write(text)
        end = () => response.end()
        send('ebb ')
      }
      const first = await now.stash.fetch(`${now.base}/a`)
      expect(now.stash.outcomeOf(first)).to.include({ how: 'forwarded', stored: true })
      const one = pieces(first)
      expect(await one()).to.equal('ebb ')
      const second = await now.stash.fetch(`${now.base}/a`)
      const other = second.body?.getReader()
      const seen = (await other?.read())?.value as Uint8Array
      expect(decoder.decode(seen), 'what came before is there').to.equal('ebb ')
      seen.fill(0)
      send('flow')
      expect([await one(), decoder.decode((await other?.read())?.value)]).to.eql(['flow', 'flow'])
      end()
      expect([await one(), (await other?.read())?.done]).to.eql([undefined, true])
      const third = await now.stash.fetch(`${now.base}/a`)
      expect([now.stash.outcomeOf(second)?.how, now.stash.outcomeOf(third)?.how, await third.text()]).to.eql([
        'collapsed',
        'hit',
        'ebb flow',
      ])
      expect(third.headers.get('content-type')).to.equal('text/event-stream; charset=utf-8')
      expect(now.received).to.have.length(1)
    }))

  it('are the same however they are read, also where their pieces are those of a buffer that is larger, or are wanted again', async () => {
    const place = Buffer.from('what came before, high tide, what comes after')
    const piece = (from: number, to: number) => place.subarray(from, to)
    for (const of of [[piece(18, 27)], [piece(18, 22), piece(22, 27)]]) {
      const upstream = async () =>
        new Response(
          new ReadableStream({
            start(controller) {
              for (const one of of) controller.enqueue(one)
              controller.close()
            },
          }),
        )
      const endpoints = { tides: { request: 'GET /*', freshFor: '1 min' } } as const
      const stash = await openStash({ fetch: upstream, providers: { ebbline: { baseUrl: 'https://tides.ebbline.example', endpoints } } })
      const get = () => stash.fetch('https://tides.ebbline.example/1')
      for (let i = 0; i < 3; i++) {
        const [some, all] = await Promise.all([get(), get()])
        expect(await some.text()).to.equal('high tide')
        expect(decoder.decode(await all.arrayBuffer())).to.equal('high tide')
        const next = pieces(await get())
        expect(`${await next()}${(await next()) ?? ''}`).to.equal('high tide')
      }
      expect(place.toString()).to.include('before, high tide, what')
      await stash.close()
    }
  })

  it('are dropped past maxBodyBytes and still reach every caller whole, as fast as one of them reads', () =>
    quay(
      async (now) => {
        const whole = Buffer.alloc(300_000, 'tide ')
        let written = 0
        now.answer = async (response) => {
          for (let at = 0; at < whole.length; at += 10_000) {
            if (!response.write(whole.subarray(at, at + 10_000))) await new Promise((drained) => response.once('drain', drained))
            written = at
          }
          response.end()
        }
        for (let time = 1; time <= 2; time++) {
          const responses = await Promise.all([1, 2, 3].map(() => now.stash.fetch(`${now.base}/big`)))
          const bodies = await Promise.all(responses.map((response) => response.arrayBuffer()))
          for (const body of bodies) expect(Buffer.from(body).equals(whole)).to.equal(true)
          expect(responses.map((response) => now.stash.outcomeOf(response)).map((outcome) => [outcome?.stored, outcome?.notStored])).to.eql(
            Array(3).fill([false, 'too-large']),
          )
          expect(now.received).to.have.length(time)
        }
        written = 0
        const huge = Buffer.alloc(64 * 1024 * 1024)
        now.answer = async (response) => {
          const closed = once(response, 'close')
          for (let at = 0; at < huge.length && !response.destroyed; at += 65_536) {
            if (!response.write(huge.subarray(at, at + 65_536))) {
              await Promise.race([once(response, 'drain'), closed])
            }
            written = at
          }
        }
        const unread = await now.stash.fetch(`${now.base}/huge`)
        await new Promise((pause) => setTimeout(pause, 80))
        expect(written, 'nobody reads, so the upstream is held back').to.be.below(huge.length / 2)
        await unread.body?.cancel()
        await until(() => now.hungUp.length > 0)
      },
      { maxBodyBytes: 20_000 },
    ))

  it('that break off are an error for every reader, are not stored, and count as failed', () =>
    quay(async (now) => {
      let breakOff = () => {}
      now.answer = (response) => {
        response.writeHead(200, { 'content-length': '100' }).write('half')
        breakOff = () => response.destroy()
      }
      const [one, two] = await Promise.all([now.stash.fetch(`${now.base}/a`), now.stash.fetch(`${now.base}/a`)])
      const read = Promise.all([one, two].map((response) => response.text().catch((error: unknown) => error)))
      breakOff()
      for (const error of await read) {
        expect(error).to.be.instanceOf(BrokenBodyError)
        expect(isStashenError(error) && error.cause).to.be.instanceOf(Error)
      }
      expect(now.stash.outcomeOf(one)).to.include({ stored: false, notStored: 'broke-off' })
      now.answer = (response) => response.end('whole')
      expect(await (await now.stash.fetch(`${now.base}/a`)).text()).to.equal('whole')
      expect((await now.stash.report()).totals.with).to.include({ asked: 3, upstream: 2, failed: 1, errored: 2 })
    }))

  it('go on for the others when one reader leaves, by abort or by cancel, and end upstream when all have left', () =>
    quay(async (now) => {
      let send = (_text: string) => {}
      now.answer = (response) => {
        response.writeHead(200)
        send = (text) => response.write(text)
        send('a')
      }
      const aborter = new AbortController()
      const leaver = new AbortController()
      const aborted = await now.stash.fetch(`${now.base}/a`, { signal: aborter.signal })
      const cancelled = await now.stash.fetch(`${now.base}/a`)
      const left = await now.stash.fetch(`${now.base}/a`, { signal: leaver.signal })
      const one = pieces(aborted)
      const last = pieces(left)
      expect([await one(), await last()]).to.eql(['a', 'a'])
      aborter.abort()
      expect(await one().catch((error: Error) => error.name)).to.equal('AbortError')
      await cancelled.body?.cancel()
      send('b')
      expect(await last()).to.equal('b')
      expect(now.hungUp).to.eql([])
      leaver.abort()
      const again = new AbortController()
      const fresh = now.stash.fetch(`${now.base}/a`, { signal: again.signal })
      await until(() => now.hungUp.length > 0)
      expect(await pieces(await fresh)(), 'a new caller does not join the ended call').to.equal('a')
      expect(now.received).to.have.length(2)
      again.abort()
    }))

  it('are waited for where an older answer could take their place, so that it does when they break off', () =>
    quay(
      async (now) => {
        await (await now.stash.fetch(`${now.base}/a`)).text()
        now.answer = (response) => response.writeHead(200, { 'content-length': '100' }).write('half', () => response.destroy())
        const response = await now.stash.fetch(`${now.base}/a`)
        expect([now.stash.outcomeOf(response)?.reason, await response.text()]).to.eql(['upstream-failed', 'tide'])
      },
      { freshFor: 0, staleIfError: '1 hour' },
    ))

  it('keep the URL that redirects led to, without the credentials in it, for every caller', () =>
    quay(async (now) => {
      now.answer = (response, request) => {
        if (request.url?.startsWith('/old')) response.writeHead(302, { location: `/new?key=hush` }).end()
        else response.end('moved')
      }
      for (const [how, end] of [
        ['forwarded', '/new?key=hush'],
        ['hit', '/new'],
      ] as const) {
        const response = await now.stash.fetch(`${now.base}/old#top`)
        expect(now.stash.outcomeOf(response)?.how).to.equal(how)
        for (const one of [response, response.clone()]) expect([one.url, one.redirected]).to.eql([now.base + end, true])
        await response.text()
      }
      for (const how of ['forwarded', 'hit', 'hit']) {
        const response = await now.stash.fetch(`${now.base}/straight?b=1&a=2#top`)
        await response.text()
        expect([now.stash.outcomeOf(response)?.how, response.url, response.redirected]).to.eql([how, `${now.base}/straight?b=1&a=2`, false])
      }
    }))

  it('come with the cookies they set only where the endpoint replays them', async () => {
    for (const replaySetCookie of [false, true]) {
      await quay(
        async (now) => {
          now.answer = (response) => response.setHeader('set-cookie', ['a=1', 'b=2']).end('tide')
          expect((await now.stash.fetch(`${now.base}/a`)).headers.getSetCookie()).to.eql(['a=1', 'b=2'])
          expect((await now.stash.fetch(`${now.base}/a`)).headers.getSetCookie()).to.eql(replaySetCookie ? ['a=1', 'b=2'] : [])
        },
        { replaySetCookie },
      )
    }
  })
})
