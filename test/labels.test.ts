import { expect } from 'chai'
import { ConfigError, memoryStore, openStash, type ProviderOptions, type Stash, type Store } from 'stashen'
import { sqliteStore } from 'stashen/sqlite'
import { temporaryFolder } from './support/files.js'
import { asynchronousStore } from './support/wrapped-store.js'

const dues = 'https://dues.quayrate.example/v1'
const fresh = { freshFor: '1 hour', staleIfError: '1 day' } as const

/** Two tariffs whose names begin alike, in lists, searches and quotes. */
const tariffs = [
  { id: 7, names: ['berth'] },
  { id: 70, names: ['crane', 'berth'] },
]

const quayrate: ProviderOptions = {
  baseUrl: dues,
  endpoints: {
    tariff: { request: 'GET /tariffs/{id}', labels: ['tariff {id}', 'tariffs'], ...fresh },
    quote: { request: 'GET /quotes', labels: [{ as: 'tariff {}', query: 'tariff' }], ...fresh },
    list: { request: 'GET /tariffs', labels: [{ as: 'tariff {}', answer: '/tariffs', each: '/id' }, 'tariffs'], ...fresh },
    search: {
      request: 'GET /search',
      labels: [(request, answer) => (answer.json() as typeof tariffs).map(({ id }) => `${request.url.pathname.slice(4, 4)}tariff ${id}`)],
      ...fresh,
    },
    names: { request: 'GET /tariffs/{id}/names', labels: [{ as: 'name {}', answer: '' }], ...fresh },
    plain: { request: 'GET /plain/{id}', ...fresh },
    change: { request: 'PUT /tariffs/{id}', invalidates: ['tariff {id}'] },
    create: { request: 'POST /tariffs', invalidates: ['tariffs', (_, answer) => answer.header('x-changed')?.split(',') ?? []] },
  },
}

describe('labels', () => {
  const file = temporaryFolder()
  let files = 0
  let calls: string[] = []
  let status = 200
  /** Held back until it resolves. */
  let gate: Promise<void> | undefined

  async function upstream(input: string | URL | Request, init?: RequestInit): Promise<Response> {
    const request = new Request(input, init)
    const { pathname, searchParams } = new URL(request.url)
    calls.push(`${request.method} ${pathname}`)
    await gate
    const [, , kind, id, more] = pathname.split('/')
    const headers = { 'x-changed': 'tariff 70,name crane' }
    if (status !== 200 || request.method !== 'GET') return new Response(null, { status: status === 200 ? 204 : status, headers })
    const one = tariffs.find((tariff) => String(tariff.id) === id)
    if (kind === 'search') return Response.json(tariffs.filter(({ names }) => names.includes(searchParams.get('q') ?? '')))
    return Response.json(kind === 'tariffs' ? (more ? one?.names : (one ?? { tariffs })) : { kind, id })
  }

  async function opened(store: Store, mode: 'reuse' | 'measure' = 'reuse') {
    calls = []
    status = 200
    gate = undefined
    const warnings: string[] = []
    const stash = await openStash({ store, mode, fetch: upstream, providers: { quayrate }, warn: (message) => void warnings.push(message) })
    const estimate = stash.operation('quayrate.estimate', async (of: { tariff: number }, days: number) => ({ of: of.tariff, days }), {
      labels: [{ as: 'tariff {}', argument: '/0/tariff' }, ({ days }) => `days ${days}`],
      ...fresh,
    })
    const setTariff = stash.operation(
      'quayrate.setTariff',
      async (id: number, price: string) => {
        if (price === 'wrong') throw new Error('no price')
        return { id, price }
      },
      { invalidates: [{ as: 'tariff {}', answer: '/id' }] },
    )
    return { stash, estimate, setTariff, warnings }
  }

  const urls = [
    '/tariffs/7',
    '/tariffs/70',
    '/tariffs',
    '/quotes?tariff=7&day=1',
    '/quotes?tariff=7&day=2',
    '/quotes?tariff=70',
    '/quotes',
    '/search?q=berth',
    '/search?q=crane',
    '/tariffs/70/names',
    '/plain/7',
  ]
  const estimates: [of: { tariff: number }, days: number][] = [
    [{ tariff: 7 }, 2],
    [{ tariff: 70 }, 2],
  ]

  /** What is no longer given as fresh of all that was stored. */
  async function outdated({ stash, estimate }: Awaited<ReturnType<typeof opened>>): Promise<string[]> {
    const gone: string[] = []
    for (const url of urls) if (!(await stash.has(`${dues}${url}`))) gone.push(url)
    for (const args of estimates)
      if ((await estimate.explain(...args)).would !== 'serve') gone.push(`${args[0].tariff} for ${args[1]} days`)
    return gone
  }

  async function primed({ stash, estimate }: Awaited<ReturnType<typeof opened>>): Promise<void> {
    for (const url of urls) await (await stash.fetch(`${dues}${url}`)).text()
    for (const args of estimates) await estimate(...args)
  }

  const put = (stash: Stash, path: string, method = 'PUT') => stash.fetch(`${dues}${path}`, { method })
  const ofSeven = ['/tariffs/7', '/tariffs', '/quotes?tariff=7&day=1', '/quotes?tariff=7&day=2', '/search?q=berth', '7 for 2 days']
  const ofSeventy = ['/tariffs/70', '/tariffs', '/quotes?tariff=70', '/search?q=berth', '/search?q=crane', '70 for 2 days']

  for (const [name, make] of [
    ['memory', () => memoryStore()],
    ['an asynchronous store', () => asynchronousStore()],
    ['SQLite', () => sqliteStore(file(`labels-${files++}.db`))],
  ] as const) {
    it(`on ${name} invalidate all that has to do with what was changed, and nothing else`, async () => {
      const all = await opened(make())
      const { stash, setTariff } = all
      const changes: [what: string, change: () => Promise<unknown>, expected: readonly string[]][] = [
        ['a webhook', () => stash.invalidate({ label: 'tariff 7' }), ofSeven],
        ['one in part of the stash', () => stash.invalidate({ label: 'tariff 7', endpoint: 'quote' }), ofSeven.slice(2, 4)],
        ['a purge', () => stash.purge({ label: 'tariff 70' }), ofSeventy],
        ['a label that begins alike', () => stash.invalidate({ label: 'tariff' }), []],
        ['a write', () => put(stash, '/tariffs/7'), ofSeven],
        [
          'a write that says more',
          () => put(stash, '/tariffs', 'POST'),
          urls.filter((url) => [...ofSeventy, '/tariffs/7', '/tariffs/70/names'].includes(url)).concat('70 for 2 days'),
        ],
        ['a write by an operation', () => setTariff(7, '12.50'), ofSeven],
        ['one that fails', () => setTariff(7, 'wrong').catch(() => undefined), []],
        ['a write that no endpoint covers, to another query', () => put(stash, '/quotes?tariff=7', 'DELETE'), urls.slice(3, 7)],
        ['what a function says of a value', () => stash.invalidate({ label: 'days 2' }), ['7 for 2 days', '70 for 2 days']],
      ]
      for (const [what, change, expected] of changes) {
        await stash.purge({}, { everything: true })
        await primed(all)
        expect(await outdated(all), `before ${what}`).to.eql([])
        await change()
        expect(await outdated(all), what).to.have.members(expected)
      }
      for (const failure of [404, 409, 500]) {
        await primed(all)
        status = failure
        await put(stash, '/tariffs/7')
        status = 200
        expect(await outdated(all), `a write that ends in ${failure}`).to.eql([])
      }
      await stash.invalidate({ label: 'tariff 7' })
      status = 503
      const emergency = await stash.fetch(`${dues}/tariffs/7`)
      expect(stash.outcomeOf(emergency)?.how, 'kept for emergencies').to.equal('stale')
      const shown: Record<string, readonly string[]> = {}
      for await (const { endpoint, key, labels } of stash.entries({ label: 'tariff 7' })) shown[`${endpoint} ${key.length}`] = labels
      expect(Object.values(shown)).to.deep.include(['tariff 7', 'tariffs']).and.to.deep.include(['tariff 7', 'tariff 70', 'tariffs'])
      await stash.close()
      expect(all.warnings).to.eql([])
    })

    it(`on ${name} reach what is on its way, if it has or may have the label, and nothing else`, async () => {
      const { stash } = await opened(make())
      let open = () => {}
      for (const [path, isLost] of [
        ['/tariffs/7', true],
        ['/tariffs/70', false],
        ['/tariffs', true],
        ['/quotes?tariff=7', true],
        ['/search?q=crane', true],
        ['/plain/7', false],
      ] as const) {
        gate = new Promise((resolve) => {
          open = resolve
        })
        calls = []
        const early = stash.fetch(`${dues}${path}`)
        await new Promise((resolve) => setTimeout(resolve, 20))
        await stash.invalidate({ label: 'tariff 7' })
        const late = stash.fetch(`${dues}${path}`)
        await new Promise((resolve) => setTimeout(resolve, 20))
        open()
        for (const answer of [await early, await late]) await answer.text()
        expect(calls, path).to.have.length(isLost ? 2 : 1)
        expect(await stash.has(`${dues}${path}`), 'of the second call').to.equal(true)
      }
      await stash.close()
    })
  }

  it('are counted while only measuring: a write ends what reuse would have given', async () => {
    const all = await opened(memoryStore(), 'measure')
    for (let i = 0; i < 2; i++) await (await all.stash.fetch(`${dues}/tariffs/7`)).text()
    await put(all.stash, '/tariffs/7')
    await (await all.stash.fetch(`${dues}/tariffs/7`)).text()
    await all.setTariff(7, '1')
    for (const path of ['/tariffs/7', '/tariffs/7']) await (await all.stash.fetch(`${dues}${path}`)).text()
    let [asked, hits] = [5, 2]
    const key = `GET ${dues}/tariffs/7 quayrate.tariff`
    for (const [change, ends] of [
      [() => all.stash.invalidate({ label: 'tariff 7' }), true],
      [() => all.stash.purge({ label: 'tariff 7', provider: 'quayrate' }), true],
      [() => all.stash.invalidate({ key }), true],
      [() => all.stash.purge({ endpoint: 'tariff' }), true],
      [() => all.stash.invalidate({ label: 'tariff 70' }), false],
      [() => all.stash.invalidate({ label: 'tariff 7' }, { dryRun: true }), false],
    ] as const) {
      expect(await change(), 'answers').to.eql({ entries: 0 })
      await (await all.stash.fetch(`${dues}/tariffs/7`)).text()
      asked++
      if (!ends) hits++
    }
    const { providers } = await all.stash.report()
    const tariff = providers[0]?.endpoints.find(({ endpoint }) => endpoint === 'tariff')
    expect(tariff?.without).to.include({ asked, wouldHit: hits })
    await all.stash.close()
  })

  it('may be any text, such as the name of what every object has', async () => {
    let found = 0
    const stash = await openStash({
      fetch: async () => Response.json({ id: '__proto__', found: ++found }),
      providers: {
        constructor: {
          baseUrl: dues,
          endpoints: {
            valueOf: { request: 'GET /{id}', labels: ['{id}', { as: 'in {}', answer: '/id' }, 'toString'], ...fresh },
            hasOwnProperty: { request: 'PUT /{id}', invalidates: ['{id}'] },
          },
        },
      },
    })
    const how = async (id: string) => {
      const response = await stash.fetch(`${dues}/${id}`)
      await response.text()
      return stash.outcomeOf(response)?.how
    }
    for (const id of ['__proto__', 'constructor', 'toString']) await how(id)
    expect(await stash.invalidate({ label: '__proto__' })).to.eql({ entries: 1 })
    expect([await how('__proto__'), await how('constructor')]).to.eql(['forwarded', 'hit'])
    await put(stash, '/constructor')
    expect([await how('constructor'), await how('__proto__'), await how('toString')]).to.eql(['forwarded', 'hit', 'hit'])
    expect(await stash.purge({ label: 'in __proto__' })).to.eql({ entries: 3 })
    await stash.close()
  })

  it('that cannot be had keep an answer from being stored, which is said once; none holds a credential', async () => {
    const warnings: string[] = []
    const failing: [name: string, labels: NonNullable<Parameters<typeof stash.operation>[2]>['labels'], says: string][] = [
      [
        'throws',
        [
          () => {
            throw new Error('no such list')
          },
        ],
        'no such list',
      ],
      ['number', [() => 7 as never], 'neither a label nor a list'],
      ['empty', [() => ''], 'a text of 1 to 500 characters'],
      ['long', [() => 'x'.repeat(501)], 'a text of 1 to 500 characters'],
      ['many', [() => Array.from({ length: 1_001 }, (_, i) => `n ${i}`)], 'it has 1001 labels'],
    ]
    const stash: Stash = await openStash({
      warn: (message) => void warnings.push(message),
      fetch: async () => Response.json({}),
      providers: {
        ebbline: {
          baseUrl: 'https://tides.ebbline.example',
          endpoints: {
            tides: {
              request: 'GET /{id}',
              labels: [
                { as: 'key {}', query: 'api_key' },
                { as: 'of {}', query: 'of' },
              ],
              ...fresh,
            },
            by: { request: 'GET /by', keyedBy: () => Promise.resolve(1) as never, ...fresh },
            open: { request: 'GET /open/{id}', labels: ['of {id}', ({ url }) => `at ${url}`], ...fresh },
          },
        },
      },
    })
    const fine = stash.operation('quayrate.fine', async (i: number) => i, { labels: [(i) => `i ${i}`], freshFor: () => '1 hour' })
    for (const [name, labels, says] of failing) {
      const found = stash.operation(`quayrate.${name}`, async () => ({ name }), { labels, ...fresh })
      warnings.length = 0
      for (let i = 0; i < 3; i++) {
        expect(await found()).to.eql({ name })
        await fine(calls.push(''))
      }
      expect((await found.withOutcome()).outcome).to.include({ how: 'forwarded', notStored: 'trouble' })
      expect(warnings.join(), name).to.include(`quayrate.${name} are not stored, for their labels fail`).and.to.include(says)
      expect(warnings, 'whatever others do meanwhile').to.have.length(1)
    }
    const unsaid = stash.operation('quayrate.unsaid', async () => 1, { freshFor: () => 'soon' as never })
    warnings.length = 0
    for (let i = 0; i < 3; i++) {
      await unsaid()
      await fine(calls.push(''))
      for (const path of ['by', 'a']) await (await stash.fetch(`https://tides.ebbline.example/${path}`)).text()
    }
    expect(warnings).to.have.length(2)
    const secret = 'sk-4fe81b22c9'
    for (const url of [`/a?api_key=${secret}&of=${secret}`, `/open/%C3%B8%2F1?api_key=${secret}`])
      await (await stash.fetch(`https://tides.ebbline.example${url}`)).text()
    const seen: string[] = []
    for await (const { labels } of stash.entries({ provider: 'ebbline' })) seen.push(...labels)
    expect(seen.join()).to.not.include(secret)
    expect(seen).to.include('of ø/1').and.to.include('at https://tides.ebbline.example/open/%C3%B8%2F1')
    await stash.close()
  })

  it('that cannot be meant are said at opening', async () => {
    const endpoint = { request: 'GET /tariffs/{id}', ...fresh }
    const faults = async (terms: object): Promise<string> =>
      openStash({ providers: { quayrate: { baseUrl: dues, endpoints: { x: terms as never } } } }).then(
        () => '',
        (error: ConfigError) => error.message,
      )
    for (const [terms, says] of [
      [
        { ...endpoint, labels: ['tariff {no}'] },
        'labels[0]: has "{no}", which is no parameter of the path of "GET /tariffs/{id}": it has "{id}"',
      ],
      [{ ...endpoint, labels: ['tariff {}'] }, 'has "{}", which is no parameter'],
      [{ ...endpoint, labels: [''] }, 'is not a label'],
      [{ ...endpoint, labels: 'tariff' }, 'labels'],
      [{ ...endpoint, labels: [{ as: 'tariff', query: 'id' }] }, 'a text with "{}" in it'],
      [{ ...endpoint, labels: [{ as: 'tariff {}', answer: 'id' }] }, 'a JSON Pointer'],
      [{ ...endpoint, labels: [{ as: 'tariff {}', argument: '/0' }] }, 'argument'],
      [{ ...endpoint, invalidates: ['tariff {id}'] }, 'is for what changes something'],
      [{ request: 'PUT /tariffs/{id}', labels: ['tariff {id}'] }, 'with "invalidates" it says whose answers its calls change'],
      [{ request: 'PUT /tariffs/{id}', invalidates: [{ as: 'tariff {}', answer: '/id' }] }, 'answer'],
    ] as const)
      expect(await faults(terms), JSON.stringify(terms)).to.include(says)
    const stash = await openStash()
    for (const [options, says] of [
      [{ labels: ['tariff {id}'], ...fresh }, 'has "{id}", which is no parameter of an operation, which has no path'],
      [{ invalidates: ['tariff 7'], ...fresh }, 'is for what changes something'],
      [{ labels: [{ as: 'tariff {}', query: 'id' }], ...fresh }, 'query'],
    ] as const)
      expect(() => stash.operation('quayrate.x', async () => 1, options as never)).to.throw(ConfigError, says)
    await stash.close()
  })
})
