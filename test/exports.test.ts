import { existsSync, readFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
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
})
