import { expect } from 'chai'
import fc from 'fast-check'
import { type Maybe, memoryStore, type SharedRecords } from 'stashen'
import { FastClock } from 'stashen/harbour'
import type { Call } from '../src/engine/call/call.js'
import { SharedState } from '../src/engine/gate/shared-state.js'
import { RetryPolicy } from '../src/engine/upstream/retry-policy.js'
import { scaled } from './support/scale.js'
import { noon } from './support/upstream.js'

/** A sum that several processes add to, and who added last. */
interface Sum {
  readonly sum: number
  readonly last: string
  readonly seen?: Record<string, number>
}
interface Added {
  readonly by: string
  readonly add: number
}

/** Processes on one record; `trouble.fails` has the store fail, `trouble.late` has it answer later, by its own clock. */
function processes(names: string[]) {
  const { records } = memoryStore()
  const clock = new FastClock(noon)
  const trouble = { fails: false, late: false }
  const writes: (string | undefined)[] = []
  let reduced = 0
  const shaky = {
    read: records.read.bind(records),
    update(name: string, now: number, change: Parameters<SharedRecords['update']>[2]): Maybe<void> {
      const work = () => {
        if (trouble.fails) throw new Error('down')
        return records.update(name, now, (value) => {
          const next = change(value)
          writes.push(next?.value)
          return next
        })
      }
      return trouble.late ? clock.sleep(10).then(work) : work()
    },
  }
  const changes: string[] = []
  const states = names.map(
    (own) =>
      new SharedState<Sum, Added>({
        ...{
          records: shaky,
          clock,
          name: 'sum',
          initial: { sum: 0, last: '' },
          keepForMs: 60_000,
          parse: (text) => JSON.parse(text) as Sum,
          changesOf: ({ sum }) => sum,
        },
        numberOf: ({ seen }) => seen?.[own] ?? 0,
        numbered: (state, number) => ({ ...state, seen: { ...state.seen, [own]: number } }),
        reduce({ sum, seen }, { by, add }) {
          reduced++
          return { sum: sum + add, last: by, ...(seen && { seen }) }
        },
        changed: (before, after, { by }) => void changes.push(`${own}: ${by} ${before.sum} ${after.sum}`),
      }),
  )
  const recorded = async () => {
    let text: string | undefined
    await records.update('sum', clock.now(), (value) => {
      text = value
      return undefined
    })
    const { sum, last } = JSON.parse(text ?? '{}') as Sum
    return text === undefined ? null : { sum, last }
  }
  const overwrite = async (text: string | undefined) => {
    await records.sweep(Number.MAX_SAFE_INTEGER)
    if (text !== undefined) await records.update('sum', clock.now(), () => ({ value: text, keepUntil: clock.now() + 60_000 }))
  }
  return {
    overwrite,
    states: states as [SharedState<Sum, Added>, SharedState<Sum, Added>],
    clock,
    trouble,
    writes,
    changes,
    recorded,
    reducedBy: () => reduced,
  }
}

/** Adds where the sum stays within 10; says whether it did. */
const within10 = (by: string) => (state: Sum) => (state.sum < 10 ? { result: true, event: { by, add: 1 } } : { result: false })

describe('shared state', () => {
  it('decides by what all processes recorded, all of one turn together, and changes nothing where nothing comes of it', async () => {
    const { states, writes, changes, recorded } = processes(['one', 'two'])
    const [one, two] = states
    const both = () => Promise.all([one.decide(within10('one')), two.decide(within10('two'))])
    for (let i = 0; i < 3; i++) expect(await both()).to.eql([true, true])
    const asked = (await Promise.all([both(), both(), both()])).flat()
    expect(asked, 'those of one process together').to.eql([true, true, true, false, true, false])
    expect(await both()).to.eql([false, false])
    expect([writes.length, writes.slice(-2)]).to.eql([10, [undefined, undefined]])
    expect(await recorded()).to.eql({ sum: 10, last: 'two' })
    expect([one.known.sum, two.known.sum]).to.eql([10, 10])
    expect(changes.slice(0, 3)).to.eql(['one: one 0 1', 'two: two 1 2', 'one: one 2 3'])
    const boom = new Error('in a decision')
    const fail = () => {
      throw boom
    }
    const failing = await Promise.allSettled([one.decide(fail), one.decide(within10('one'))])
    expect(failing).to.eql([
      { status: 'rejected', reason: boom },
      { status: 'fulfilled', value: false },
    ])
    expect(await recorded()).to.eql({ sum: 10, last: 'two' })
  })

  it('writes what is noted within 50 ms or with the next decision, together, and nobody waits for it', async () => {
    const { states, clock, writes, changes, recorded, overwrite } = processes(['one', 'two'])
    const [one, two] = states
    await clock.run(
      (async () => {
        for (let i = 0; i < 3; i++) one.note({ by: 'one', add: 1 })
        expect([one.known.sum, two.known.sum, writes.length]).to.eql([3, 0, 0])
        await clock.sleep(49)
        expect(writes.length).to.equal(0)
        await clock.sleep(2)
        expect([writes.length, await recorded()]).to.eql([1, { sum: 3, last: 'one' }])
        one.note({ by: 'one', add: 2 })
        expect(await one.decide((state) => ({ result: state.sum }))).to.equal(5)
        expect(writes.length, 'with the decision').to.equal(2)
        await clock.sleep(100)
        expect(writes.length, 'not once more').to.equal(2)
        expect(changes).to.have.length(4)
        one.note({ by: 'one', add: 1 })
        await one.settle()
        expect(await recorded()).to.eql({ sum: 6, last: 'one' })
        expect([two.known.sum, (await two.look()).sum, two.known.sum]).to.eql([0, 6, 6])
        await overwrite(undefined)
        expect((await two.look()).sum).to.equal(6)
      })(),
    )
  })

  it('writes once at a time on a store that answers later: what came up meanwhile goes together', async () => {
    const { states, clock, trouble, writes, recorded } = processes(['one', 'two'])
    const [one] = states
    trouble.late = true
    await clock.run(
      (async () => {
        const asked = Array.from({ length: 30 }, () => one.decide(within10('one')))
        await undefined
        one.note({ by: 'noted', add: 100 })
        asked.push(...Array.from({ length: 30 }, () => one.decide(within10('one'))))
        expect((await Promise.all(asked)).filter(Boolean), 'the noted one counts from then on').to.have.length(10)
        expect(writes).to.have.length(2)
        await clock.sleep(100)
        expect(await recorded()).to.include({ sum: 110 })
        expect(one.known.sum).to.equal(110)
        const boom = new Error('in a decision')
        const fail = () => {
          throw boom
        }
        expect(await one.decide(fail).catch((error: unknown) => error)).to.equal(boom)
      })(),
    )
  })

  for (const late of [false, true]) {
    it(`goes on by what it knows while the store fails${late ? ' late' : ''}, and applies its events to what others recorded once it is back`, async () => {
      const { states, clock, trouble, changes, recorded } = processes(['one', 'two'])
      const [one, two] = states
      await clock.run(
        (async () => {
          await one.decide(within10('one'))
          Object.assign(trouble, { fails: true, late })
          for (let i = 0; i < 20; i++) await one.decide(within10('one'))
          expect([one.known.sum, (await recorded())?.sum, changes.length]).to.eql([10, 1, 10])
          Object.assign(trouble, { fails: false, late: false })
          await two.decide(within10('two'))
          await one.settle()
          expect(await recorded()).to.eql({ sum: 11, last: 'one' })
          expect([one.known.sum, changes.length]).to.eql([11, 11])
        })(),
      )
    })
  }

  it('continues from what the processes know where a store loses a record, or goes back to an older one: no event is lost, none counts twice', async () => {
    const step = fc.constantFrom('one decides', 'two decides', 'one notes', 'two notes', 'lost', 'older', 'wait', 'fails', 'works')
    await fc.assert(
      fc.asyncProperty(fc.array(step, { maxLength: 40 }), async (steps) => {
        const { states, clock, trouble, writes, recorded, overwrite } = processes(['one', 'two'])
        const [one, two] = states
        let added = 0
        const count = (by: string) => () => ({ result: ++added, event: { by, add: 1 } })
        const note = (by: string) => {
          added++
          return { by, add: 1 }
        }
        await clock.run(
          (async () => {
            for (const [i, what] of steps.entries()) {
              if (what === 'one decides') await one.decide(count('one'))
              if (what === 'two decides') await two.decide(count('two'))
              if (what === 'one notes') one.note(note('one'))
              if (what === 'two notes') two.note(note('two'))
              if (what === 'lost') await overwrite(undefined)
              if (what === 'older') await overwrite(writes.filter((text) => text !== undefined)[i % Math.max(1, writes.length)])
              if (what === 'wait') await clock.sleep(i % 2 === 0 ? 60 : 60_000)
              if (what === 'fails' || what === 'works') trouble.fails = what === 'fails'
            }
            trouble.fails = false
            for (const state of [one, two, one, two]) {
              state.note({ by: 'end', add: 0 })
              await state.settle()
            }
            expect((await recorded())?.sum).to.equal(added)
            expect([one.known.sum, two.known.sum]).to.eql([added, added])
          })(),
        )
      }),
      { numRuns: scaled(30) },
    )
    const { states, clock, recorded, overwrite } = processes(['gone', 'there'])
    const [gone, there] = states
    for (let i = 0; i < 4; i++) await (i < 3 ? gone : there).decide(within10('one'))
    await overwrite(undefined)
    await clock.run(clock.sleep(3_600_000))
    await there.decide(within10('there'))
    expect((await recorded())?.sum, 'of a process that is gone by now').to.equal(5)
  })

  it('keeps no more events for a failing store than 20,000: past that, what the process knows takes the place of what is recorded', async () => {
    const { states, trouble, recorded, reducedBy } = processes(['one', 'two'])
    const [one] = states
    trouble.fails = true
    for (let i = 0; i < 20_000; i++) one.note({ by: 'one', add: 1 })
    trouble.fails = false
    let before = reducedBy()
    await one.settle()
    expect([reducedBy() - before, (await recorded())?.sum], 'event by event').to.eql([20_000, 20_000])
    trouble.fails = true
    for (let i = 0; i < 50_000; i++) one.note({ by: 'one', add: 1 })
    trouble.fails = false
    before = reducedBy()
    await one.settle()
    expect(reducedBy() - before, 'at once').to.equal(0)
    expect([one.known.sum, (await recorded())?.sum]).to.eql([70_000, 70_000])
    one.note({ by: 'one', add: 1 })
    await one.settle()
    expect((await recorded())?.sum, 'and event by event again').to.equal(70_001)
  })
})

describe('the retry share', () => {
  it('allows three at first, a share of calls from then on, and saves up no more than twenty', () => {
    const retries = new RetryPolicy(new FastClock(noon), () => 0.5)
    const call = {
      ...{ isRepeatable: true, terms: { maxWaitMs: 60_000 } },
      endpoint: { provider: 'ebbline', mode: 'reuse', retries: { upTo: 2 } },
    } as unknown as Call<unknown>
    const granted = () => {
      let n = 0
      while (n < 1000 && retries.pauseBefore(call, 1, { deadline: undefined }) !== undefined) n++
      return n
    }
    expect(granted(), 'at first').to.equal(3)
    for (let i = 0; i < 10; i++) retries.called('ebbline', 0.1)
    expect(granted(), 'of ten calls').to.equal(1)
    for (let i = 0; i < 9; i++) retries.called('ebbline', 0.1)
    expect(granted(), 'of nine calls').to.equal(0)
    for (let i = 0; i < 10_000; i++) retries.called('ebbline', 0.1)
    expect(granted(), 'of very many calls').to.equal(20)
    expect(retries.pauseBefore(call, 3, { deadline: undefined }), 'after the last attempt').to.equal(undefined)
  })
})
