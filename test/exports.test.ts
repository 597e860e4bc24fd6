import { spawnSync } from 'node:child_process'
import { existsSync, readFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { OnDemand } from '../src/core/on-demand.js'
import { version } from '../src/core/version.js'

const root = fileURLToPath(new URL('../src/', import.meta.url))
const entries = ['index', 'stores/sqlite/index', 'stores/journal/index', 'testing/index'].map((entry) => join(root, `${entry}.d.ts`))

interface Declared {
  readonly file: string
  readonly name: string
}

/** What a declaration file exports from others. */
function exportsOf(file: string): Declared[] {
  return [...readFileSync(file, 'utf8').matchAll(/export (?:type )?\{([^}]*)\} from '([^']+)'/g)].flatMap(([, names = '', from = '']) =>
    names
      .split(',')
      .map(
        (name) =>
          name
            .trim()
            .replace(/^type /, '')
            .split(' as ')[0] ?? '',
      )
      .filter((name) => name !== '')
      .map((name) => ({ file: join(dirname(file), from.replace(/\.js$/, '.d.ts')), name })),
  )
}

/** The types of the package that a declaration mentions. */
function mentionedBy({ file, name }: Declared): Declared[] {
  const text = readFileSync(file, 'utf8').replace(/\/\*\*[\s\S]*?\*\//g, '')
  const start = new RegExp(`(?:interface|type|class|function|const) ${name}\\b[\\s\\S]*?(?=\\n(?:export|declare|interface|type)|$)`)
  const own = start.exec(text)?.[0] ?? ''
  const known = new Map<string, string>()
  for (const [, local = ''] of text.matchAll(/(?:interface|type|class) (\w+)/g)) known.set(local, file)
  for (const [, names = '', from = ''] of text.matchAll(/import (?:type )?\{([^}]*)\} from '(\.[^']+)'/g)) {
    for (const one of names.split(',')) known.set(one.trim().replace(/^type /, ''), join(dirname(file), from.replace(/\.js$/, '.d.ts')))
  }
  return [...known]
    .filter(([one]) => one !== name && new RegExp(`\\b${one}\\b`).test(own))
    .map(([one, from]) => ({ file: from, name: one }))
}

describe('the public API', () => {
  it('knows the version that the package has', () => {
    const { version: ofPackage } = JSON.parse(readFileSync(join(root, '../../package.json'), 'utf8')) as { version: string }
    expect(version).to.equal(ofPackage)
  })

  it('exports every type that it mentions', () => {
    const all = entries.flatMap(exportsOf)
    const exported = new Set(all.map(({ name }) => name))
    expect(exported.size).to.be.above(100)
    const seen = new Set<string>()
    const missing: string[] = []
    for (let next = all.pop(); next; next = all.pop()) {
      const { file, name } = next
      if (seen.has(`${file} ${name}`) || !existsSync(file)) continue
      seen.add(`${file} ${name}`)
      for (const one of mentionedBy(next)) {
        if (!exported.has(one.name)) missing.push(`${one.name}, which ${name} mentions`)
        all.push(one)
      }
    }
    expect(missing).to.eql([])
  })

  it('loads what weighs most only where it is asked for', () => {
    const [index, built] = ['index.js', 'build-stash.js'].map((name) => loadedBy([join(root, name)]))
    const heavy = ['zod/mini', 'temporal-polyfill', 'cbor2', 'big.js']
    expect(heavy.filter((one) => index?.packages.has(one))).to.eql([])
    expect(heavy.filter((one) => built?.packages.has(one))).to.eql(['zod/mini', 'big.js'])
  })

  it('says what to do where code cannot be loaded, and tries again', async () => {
    let tries = 0
    const code = new OnDemand(async () => {
      if (++tries === 1) throw new TypeError('the network is away')
      return tries
    })
    const error = await code.get().catch((thrown: Error) => thrown)
    expect(error).to.include({ code: 'USAGE' })
    expect((error as Error).message).to.match(/the network is away\. Ask for it while its files can be reached, or call loadEverything/)
    expect([await code.get(), await code.get(), code.loaded]).to.eql([2, 2, 2])
    const inWorker = new OnDemand(async () => {
      if (++tries === 3) throw new TypeError('import() is disallowed')
    })
    Object.assign(globalThis, { ServiceWorkerGlobalScope: class {} })
    try {
      expect(String(await inWorker.get().catch((thrown: Error) => thrown))).to.include('import "stashen/whole" in place of "stashen"')
      await inWorker.get()
    } finally {
      delete (globalThis as { ServiceWorkerGlobalScope?: unknown }).ServiceWorkerGlobalScope
    }
  })

  it('has all at once where code cannot be loaded later, as in service workers', () => {
    const code = `import { OnDemand } from '${new URL('../src/core/on-demand.js', import.meta.url)}'
      const { get } = OnDemand.prototype
      OnDemand.prototype.get = function () {
        if (this.loaded === undefined) throw new Error('it would be loaded')
        return get.call(this)
      }
      const { loadEverything, openStash } = await import('stashen/whole')
      await loadEverything()
      await (await openStash()).report()
      console.log('all')`
    const { stdout, stderr } = spawnSync(process.execPath, ['--input-type=module', '-e', code], { cwd: root, encoding: 'utf8' })
    expect(stdout + stderr).to.equal('all\n')
    const later = loadedBy([join(root, 'index.js')], (loaded) => loaded.later.filter((file) => file.startsWith(root))).later
    const { files } = loadedBy([join(root, 'whole.js')])
    expect(later.filter((file) => file.startsWith(root) && !files.has(file))).to.eql([])
    expect(later).to.have.length.above(18)
  })
})

interface Loaded {
  readonly files: ReadonlySet<string>
  readonly packages: ReadonlySet<string>
  /** What they load when it is asked for. */
  readonly later: readonly string[]
}

/** What modules load with themselves, and with `besides`. */
function loadedBy(modules: readonly string[], besides: (loaded: Loaded) => readonly string[] = () => []): Loaded {
  const [files, packages, later] = [new Set<string>(), new Set<string>(), new Set<string>()]
  const left = [...modules]
  for (;;) {
    const file = left.pop() ?? besides({ files, packages, later: [...later] }).find((one) => !files.has(one))
    if (file === undefined) return { files, packages, later: [...later] }
    if (files.has(file)) continue
    files.add(file)
    const code = readFileSync(file, 'utf8')
    for (const [, from = ''] of code.matchAll(/^(?:import|export)\b[^'"]*?from '([^']+)'/gm)) {
      if (from.startsWith('.')) left.push(join(dirname(file), from))
      else packages.add(from)
    }
    for (const [, from = ''] of code.matchAll(/\bimport\('([^']+)'\)/g)) later.add(from.startsWith('.') ? join(dirname(file), from) : from)
  }
}
