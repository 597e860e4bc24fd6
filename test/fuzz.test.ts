import { expect } from 'chai'
import fc from 'fast-check'
import { isStashenError, memoryStore, openStash, type StashConfig } from 'stashen'
import { providers } from '../examples/harbour/config.js'
import { parseUsage } from '../src/config/usage-file.js'
import { likelyMistakes } from '../src/config/warnings.js'
import { readReconciliation } from '../src/queries/reconciliation.js'
import { scaled, seed } from './support/scale.js'
import { noon } from './support/upstream.js'

/** How many of each are tried. */
const numRuns = scaled(80)

// biome-ignore format: many words a line
const absurd = fc.oneof(
  fc.constantFrom<unknown>(
    ...[undefined, null, true, 0, -0, -1, 1, 1.5, 1e21, 1e308, Number.NaN, Number.POSITIVE_INFINITY, Number.MAX_SAFE_INTEGER, 2 ** 31, 10n],
    ...[
      '', ' ', '0', '-1', '1e999', '1 fortnite', '99999999999 years', '0 s', 'P1D', '2026-02-30', '275760-09-13', '9999-12-31',
      '0000-01-01'
    ],
    ...[
      '__proto__', 'constructor', 'toString', 'GET /', 'GET /*', 'GET /{a}/{a}', 'http://', 'https://a.example:99999', 'Europe/Nowhere',
      '25:61'
    ],
    ...['\u0000', '\ud800', 'x'.repeat(100_000), [], {}, [[]], [{}], new Date(Number.NaN), /a/, () => 1, Symbol('a'), new Map()],
  ),
  fc.anything({ maxDepth: 3, withBigInt: true, withDate: true, withMap: true, withNullPrototype: true, withSparseArray: true }),
  fc.integer(),
  fc.double(),
  fc.string(),
)

/** The configuration of the harbour office, with some things in it replaced, added or left out. */
const spoilt = fc
  .array(fc.tuple(fc.infiniteStream(fc.nat(50)), absurd, fc.constantFrom('replace', 'add', 'drop')), { minLength: 1, maxLength: 4 })
  .map((changes) => {
    const config = copyOf({ providers, mode: 'reuse', sets: { slow: { freshFor: '1 day' } } }) as Record<string, unknown>
    for (const [steps, value, how] of changes) {
      let place: Record<string, unknown> = config
      for (;;) {
        const names = Object.keys(place)
        const name = names[(steps.next().value as number) % Math.max(1, names.length)] as string
        const inner = place[name]
        if (typeof inner === 'object' && inner !== null && (steps.next().value as number) % 5 > 0) {
          place = inner as Record<string, unknown>
          continue
        }
        if (!Object.isExtensible(place)) break
        if (how === 'drop') delete place[name]
        else
          Object.defineProperty(place, how === 'add' ? `extra${names.length}` : name, {
            value: copyOf(value), // which later changes may spoil further
            enumerable: true,
            configurable: true,
            writable: true,
          })
        break
      }
    }
    return config
  })

describe('random', () => {
  it(`configurations open a stash or end in a list of faults (seed ${seed})`, async () => {
    let opened = 0
    await fc.assert(
      fc.asyncProperty(
        fc.oneof({ arbitrary: spoilt, weight: 9 }, { arbitrary: absurd as fc.Arbitrary<unknown>, weight: 1 }),
        async (config) => {
          try {
            const stash = await openStash(
              typeof config === 'object' && config !== null && !Array.isArray(config)
                ? { store: memoryStore(), ...config }
                : (config as StashConfig),
            )
            opened++
            if (config !== undefined) likelyMistakes(config as StashConfig)
            await stash.explain('https://tides.ebbline.example/v2/stations/st-001/tides?day=2026-06-30')
            await stash.status()
            await stash.report()
            await stash.close()
          } catch (error) {
            if (!isStashenError(error)) throw error
            expect(error.code).to.equal('CONFIG_INVALID')
            expect(error.message.length, 'a list that can be read').to.be.below(500_000)
          }
        },
      ),
      { numRuns, seed },
    )
    expect(opened, 'some are right').to.be.above(0)
  })

  it(`moments in words and numbers are read or refused (seed ${seed})`, async () => {
    await using stash = await openStash({ providers })
    await fc.assert(
      fc.asyncProperty(absurd, absurd, absurd, async (since, until, zone) => {
        const report = await stash.report({ since, until, zone } as never).catch((error: unknown) => error)
        if (isStashenError(report)) expect(report.code).to.equal('USAGE')
        else expect(report).to.have.property('providers')
      }),
      { numRuns, seed },
    )
  })

  it(`usage exports are compared or end in a list of faults (seed ${seed})`, async () => {
    const store = memoryStore()
    const stash = await openStash({ store, providers })
    await stash.close()
    // biome-ignore format: many words a line
    const cell = fc.oneof(
      fc.constantFrom(
        '2026-06-30', '2026-6-30', '2026-02-30', '9999-99-99', '0000-00-00', '2026-06-30T12:00Z', '1', '-1', '1.5', '1,5', '1e5',
        '99999999999999999999', '', ' ', '"', '""', ',', '\n', '\r', '\u0000', 'day', 'calls', '__proto__', '=1'
      ),
      fc.string({ maxLength: 8 }),
    )
    const csv = fc
      .tuple(
        fc.constantFrom('day,calls', 'day,calls,amount', 'calls', 'day;calls', '', '\ufeffday,calls', 'day,day,calls'),
        fc.array(fc.array(cell, { maxLength: 4 }), { maxLength: 6 }),
      )
      .map(([head, lines]) => [head, ...lines.map((cells) => cells.join(','))].join('\n'))
    const json = fc.json({ maxDepth: 3 }).map((text) => `[${text}]`)
    await fc.assert(
      fc.asyncProperty(
        fc.oneof(csv, json, fc.string()),
        fc.constantFrom({}, { amount: 'amount' }, { calls: 'calls', amount: 'amount' }, { zone: 'Europe/Oslo' }),
        async (text, columns) => {
          try {
            const { usage } = parseUsage(text, columns)
            await readReconciliation(store, noon, { provider: 'skerrylight', usage, zone: undefined, mode: undefined })
          } catch (error) {
            if (!isStashenError(error)) throw error
            expect(error.code).to.be.oneOf(['CONFIG_INVALID', 'USAGE'])
          }
        },
      ),
      { numRuns: 4 * numRuns, seed },
    )
  })
})

/** A copy of plain data, with functions as they are. */
function copyOf(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(copyOf)
  const isPlain = typeof value === 'object' && value !== null && Object.getPrototypeOf(value) === Object.prototype
  if (!isPlain) return value
  return Object.fromEntries(Object.entries(value).map(([name, inner]) => [name, copyOf(inner)]))
}
