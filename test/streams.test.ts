import type { ServerResponse } from 'node:http'
import { setFlagsFromString } from 'node:v8'
import { runInNewContext } from 'node:vm'
import { expect } from 'chai'
import { type EndpointOptions, isStashenError } from 'stashen'
import { HandClock } from './support/hand-clock.js'
import { eventually, realUpstream } from './support/real-upstream.js'
import { isLong } from './support/scale.js'

const rule = { request: 'GET /stream/{id}', freshFor: '1 ms' } as const
const sleep = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))
const codeOf = (error: unknown) => (isStashenError(error) ? error.code : (error as Error).name)

/** The first piece of a body, as text. */
async function firstPiece(response: Response): Promise<{ text: string; rest(): Promise<string> }> {
  const reader = (response.body as ReadableStream<Uint8Array>).getReader()
  const decoder = new TextDecoder()
  const { value } = await reader.read()
  return {
    text: decoder.decode(value),
    async rest() {
      let text = ''
      for (let piece = await reader.read(); !piece.done; piece = await reader.read()) text += decoder.decode(piece.value)
      return text
    },
  }
}

describe('streams', () => {
  const options: [name: string, endpoint: Partial<EndpointOptions>][] = [
    ['nothing', {}],
    ['retries', { retries: 3 }],
    ['a fallback', { fallback: { text: 'none' } }],
    ['staleIfError and an older answer', { staleIfError: '1 h' }],
    ['all of these', { retries: 3, fallback: { text: 'none' }, staleIfError: '1 h' }],
  ]
  const kinds: [kind: string, type: string, endpoint: Partial<EndpointOptions>][] = [
    ['events', 'text/event-stream; charset=utf-8', {}],
    ['lines', 'application/x-ndjson', {}],
    ['pictures', 'multipart/x-mixed-replace; boundary=x', {}],
    ['an endpoint that says so', 'application/octet-stream', { stream: true }],
  ]
  for (const [kind, type, own] of kinds) {
    it(`of ${kind} reach their caller piece by piece, whatever could stand in for them`, async () => {
      for (const [name, endpoint] of options) {
        await realUpstream({ endpoints: { stream: { ...rule, ...own, ...endpoint } as EndpointOptions } }, async (now) => {
          const { stash, base } = now
          let open: ServerResponse | undefined
          now.answer = (_request, response) => void response.writeHead(200, { 'content-type': type }).end('old')
          await (await stash.fetch(`${base}/stream/1`)).text() // the older answer
          await sleep(5)
          now.answer = (_request, response) => {
            response.writeHead(200, { 'content-type': type }).write('one;')
            open = response
          }
          const { text, rest } = await firstPiece(await stash.fetch(`${base}/stream/1`))
          expect(text, name).to.equal('one;')
          open?.end('two;')
          expect(await rest(), name).to.equal('two;')
        })
      }
    })
  }

  it('of other kinds are waited for only where an older answer could take their place', async () => {
    for (const [name, endpoint, older, waits] of [
      ['retries', { retries: 3 }, false, false],
      ['a fallback', { fallback: { text: 'none' } }, false, false],
      ['staleIfError, and nothing stored', { staleIfError: '1 h' }, false, false],
      ['staleIfError, and an older answer', { staleIfError: '1 h' }, true, true],
    ] as [string, Partial<EndpointOptions>, boolean, boolean][]) {
      await realUpstream({ endpoints: { stream: { ...rule, ...endpoint } as EndpointOptions } }, async (now) => {
        const { stash, base } = now
        let open: ServerResponse | undefined
        if (older) await (await stash.fetch(`${base}/stream/1`)).text()
        await sleep(5)
        now.answer = (_request, response) => {
          response.writeHead(200, { 'content-type': 'application/json' }).write('[1,')
          open = response
        }
        const answer = stash.fetch(`${base}/stream/1`)
        await eventually(() => open !== undefined)
        const isBack = await Promise.race([answer.then(() => true), sleep(100).then(() => false)])
        expect(isBack, name).to.equal(!waits)
        open?.end('2]')
        expect(await (await answer).text()).to.equal('[1,2]')
      })
    }
  })

  it('may take as long as they like, but not for their first byte, nor between two pieces, unless it is only measured', async () => {
    const cases: [name: string, timeout: EndpointOptions['timeout'], maxBodyBytes: number, sends: number[], error: string | undefined][] = [
      ['pieces in time', { firstByte: '4 s', idle: '4 s' }, 1_000_000, [0, 3, 3, 3, 3], undefined],
      ['pieces in time, too large to be kept', { firstByte: '4 s', idle: '4 s' }, 3, [0, 3, 3, 3, 3], undefined],
      ['no first byte', { firstByte: '1 s', idle: '50 s' }, 1_000_000, [40], 'firstByte'],
      ['a piece that does not come', { firstByte: '50 s', idle: '1 s' }, 1_000_000, [0, 0.5, 40], 'nextByte'],
      ['one of a body too large to be kept', { firstByte: '50 s', idle: '1 s' }, 3, [0, 0.5, 40], 'nextByte'],
      ['a total', { total: '5 s' }, 1_000_000, [0, 2, 2, 2, 2], 'total'],
      ['a total of a body too large to be kept', { total: '5 s' }, 3, [0, 2, 2, 2, 2], 'total'],
    ]
    for (const mode of ['reuse', 'measure'] as const) {
      for (const [name, timeout, maxBodyBytes, sends, missing] of cases) {
        const clock = new HandClock()
        const endpoints = { stream: { ...rule, timeout, maxBodyBytes, holdOff: 0 } as EndpointOptions }
        await realUpstream(
          { mode, endpoints },
          async (now) => {
            const { stash, base, upstream } = now
            const asked = new Promise<ServerResponse>((resolve) => {
              now.answer = (_request, response) => resolve(response)
            })
            let text = ''
            const reading = stash.fetch(`${base}/stream/1`).then(async (response) => {
              for await (const bytes of response.body as ReadableStream<Uint8Array>) text += new TextDecoder().decode(bytes)
            })
            const ended = reading.then(
              () => 'whole',
              (error: unknown) => `${codeOf(error)} ${(error as { missing?: string }).missing}`,
            )
            const response = await asked
            for (const [i, seconds] of sends.entries()) {
              await clock.advance(seconds * 1_000)
              response.write('piece;')
              const due = 'piece;'.repeat(i + 1)
              if (await Promise.race([ended, eventually(() => text === due).then(() => undefined)])) break
            }
            response.end()
            const [expected, how] = missing && mode === 'reuse' ? [`UPSTREAM_TIMEOUT ${missing}`, 'failed'] : ['whole', 'answered']
            expect(await ended, name).to.equal(expected)
            if (how === 'answered') expect(text).to.equal('piece;'.repeat(sends.length))
            await eventually(() => upstream.length === 1)
            expect(upstream[0]?.how, name).to.equal(how)
          },
          { clock },
        )
      }
    }
  })

  it('pass through without being kept: many MB leave less than 50 MB in memory at any time', async () => {
    setFlagsFromString('--expose-gc')
    const collect = runInNewContext('gc') as () => void
    const [pieces, size] = [isLong ? 6_400 : 1_200, 65_536]
    await realUpstream({ endpoints: { stream: { ...rule, maxBodyBytes: 1_000_000 } } }, async (now) => {
      const piece = Buffer.alloc(size, 'x')
      now.answer = async (_request, response) => {
        response.writeHead(200)
        for (let i = 0; i < pieces; i++) if (!response.write(piece)) await new Promise((resolve) => response.once('drain', resolve))
        response.end()
      }
      const reader = ((await now.stash.fetch(`${now.base}/stream/1`)).body as ReadableStream<Uint8Array>).getReader()
      let [bytes, most, at] = [0, 0, 0]
      collect()
      const before = process.memoryUsage().arrayBuffers
      for (let read = await reader.read(); !read.done; read = await reader.read()) {
        bytes += read.value.byteLength
        if (bytes - at < 10_000_000) continue
        at = bytes
        collect()
        most = Math.max(most, process.memoryUsage().arrayBuffers - before)
      }
      expect(bytes).to.equal(pieces * size)
      expect(most).to.be.below(50_000_000)
    })
  })
})
