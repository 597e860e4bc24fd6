import { spawnSync } from 'node:child_process'
import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { basename, dirname, join, resolve } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import dictionary from 'dictionary-en-gb'
import { build, stop } from 'esbuild'
import nspell from 'nspell'
import type { Browser, BrowserContext } from 'playwright-core'
import { type ConfigError, openStash } from 'stashen'
import { temporaryFolder } from './support/files.js'
import { haveChromium, haveRedis } from './support/needs.js'
import { packedProject } from './support/packed-project.js'
import { RedisServer } from './support/redis-server.js'
import { browserOfRun } from './support/shared-by-suites.js'

const root = fileURLToPath(new URL('../../', import.meta.url))
const pages = [
  'README.md',
  'CHANGELOG.md',
  'CONTRIBUTING.md',
  ...readdirSync(`${root}docs`).flatMap((name) => (name.endsWith('.md') ? [`docs/${name}`] : [])),
]
const textOf = (page: string) => readFileSync(`${root}${page}`, 'utf8')

/** The code of a text by kind, with what it prints. */
function blocksOf(text: string): { kind: string; code: string; prints: string }[] {
  const blocks: { kind: string; code: string; prints: string }[] = []
  for (const [, kind = '', code = ''] of text.matchAll(/```(\w*)\n([\s\S]*?)```/g)) {
    const last = blocks.at(-1)
    if (kind === 'text' && last) last.prints += code
    else blocks.push({ kind, code, prints: '' })
  }
  return blocks
}

const board = 'https://board.kelpmouth.example/'

/** Times differ each time, and so do what they are compared with. */
const withoutTimes = (text: string) => text.replace(/\d+(\.\d+)? ms/g, 'N ms')

describe('the documentation', function () {
  this.timeout(180_000)
  const file = temporaryFolder()
  let folder = ''
  before(() => {
    folder = file('project') // with the package as it is published, and nothing else
    packedProject(folder, ['fastify', 'pure-rand', 'redis', '@types/node'])
    writeFileSync(join(folder, 'package.json'), '{ "type": "module" }')
    const written = recipes.filter(({ kind }) => kind === 'ts').map(({ name, code }) => [name, code] as const)
    js = compiled(new Map([...written, ...storePrograms.map((code, i) => [`store-${i}`, code] as const)]))
  })

  function run(name: string, code: string): string {
    const file = join(folder, name)
    writeFileSync(file, code)
    const { stdout, stderr } = spawnSync(process.execPath, [file], {
      cwd: folder,
      encoding: 'utf8',
      env: { ...process.env, NO_COLOR: '1' },
    })
    expect(stderr, name).to.equal('')
    return withoutTimes(stdout)
  }

  /** What TypeScript makes of programs, by their names. */
  function compiled(codes: ReadonlyMap<string, string>): Map<string, string> {
    for (const [name, code] of codes) writeFileSync(join(folder, `${name}.ts`), code)
    const args = ['--ignoreConfig', '--strict', '--target', 'es2022', '--module', 'nodenext', '--types', 'node', '--skipLibCheck']
    const libs = ['--lib', 'es2022,dom,esnext.decorators']
    const names = [...codes.keys()]
    const { stdout } = spawnSync(
      process.execPath,
      [`${root}node_modules/typescript/bin/tsc`, ...args, ...libs, ...names.map((name) => `${name}.ts`)],
      { cwd: folder, encoding: 'utf8' },
    )
    expect(stdout).to.equal('')
    return new Map(names.map((name) => [name, readFileSync(join(folder, `${name}.js`), 'utf8')]))
  }

  /** Runs programs one after the other in one process; returns what each printed. */
  function printedBy(programs: ReadonlyMap<string, string>): string[] {
    for (const [name, code] of programs) writeFileSync(join(folder, `${name}.mjs`), code)
    const driver = `import { restart } from '${new URL('./support/answers-all.js', import.meta.url).href}'
for (const name of ${JSON.stringify([...programs.keys()])}) {
  restart()
  console.log('\0')
  await import('./' + name + '.mjs')
}
process.exit()
`
    return run('driver.mjs', driver).split('\0\n').slice(1)
  }

  it('begins with steps that run one after the other and print what they say', () => {
    const steps = blocksOf(textOf('docs/getting-started.md')).filter(({ kind }) => kind === 'js')
    expect(steps).to.have.length.above(7)
    const said = steps.map(({ prints }) => prints).join('')
    // its two seconds pass at once, and its API answers sooner
    const leap = `const [timer, now] = [setTimeout, Date.now]
let aheadMs = 0
Date.now = () => now() + aheadMs
globalThis.setTimeout = (run, ms, ...rest) => {
  if (ms !== 2_100) return timer(run, ms > 100 && ms < 1_000 ? ms / 10 : ms, ...rest)
  aheadMs += ms
  return timer(run)
}
`
    expect(run('getting-started.mjs', leap + steps.map(({ code }) => code).join('\n'))).to.equal(withoutTimes(said))
  })

  const recipes = ['docs/recipes.md', 'docs/operations.md', 'docs/labels.md', 'docs/graphql-and-json-rpc.md'].flatMap((page) =>
    textOf(page)
      .split(/^## /m)
      .flatMap((text) => blocksOf(text).map((block) => ({ ...block, of: `${page}: ${text.split('\n')[0]}` })))
      .filter(({ kind }) => kind === 'js' || kind === 'ts')
      .map((block, i) => ({ ...block, name: `${page.replace(/\W+/g, '-')}-${i}` })),
  )
  const storePrograms = blocksOf(textOf('docs/stores.md')).flatMap(({ kind, code }) => (kind === 'ts' ? [code] : []))
  let js: ReadonlyMap<string, string>

  it('has recipes that run as they stand and print what they say', () => {
    const printed = printedBy(new Map(recipes.map(({ name, code }) => [name, js.get(name) ?? code])))
    for (const [i, { of, prints }] of recipes.entries()) expect(printed[i], of).to.equal(prints)
    expect(recipes.length).to.be.above(10)
  })

  it('has stores that open as they stand, but for where their server is', async () => {
    expect(storePrograms).to.have.length(4)
    const server = haveRedis('the stores of docs/stores.md') ? await RedisServer.start() : undefined
    try {
      const programs = new Map<string, string>()
      for (const [name, code] of js) {
        if (!name.startsWith('store-')) continue
        if (code.includes('indexedDbStore') || (code.includes('redisStore') && !server)) continue
        const here = code
          .replace(/redisStore\(\{ url: '[^']*'/, `redisStore({ url: '${server?.url}'`)
          .replace('redisStore()', `redisStore({ url: '${server?.url}' })`)
        const secret = `process.env.STASH_SECRET = '${'A'.repeat(43)}='\n`
        programs.set(name, `${secret}${here}\nawait stash.close()\nconsole.log('closed')`)
      }
      expect(printedBy(programs)).to.eql([...programs].map(() => 'closed\n'))
    } finally {
      await server?.remove()
    }
  })

  if (haveChromium('the page of docs/browser.md'))
    describe('in a browser', () => {
      let browser: Browser
      before(async () => {
        browser = await browserOfRun()
      })
      after(async () => {
        await browser.close()
        await stop()
      })

      /** A profile in which the board's address has a page with that code, bundled. */
      async function contextWith(html: string, js: string): Promise<BrowserContext> {
        writeFileSync(join(folder, 'page.js'), js)
        const { outputFiles } = await build({
          ...{ entryPoints: [join(folder, 'page.js')], outdir: folder, write: false, bundle: true, splitting: true },
          ...{ format: 'esm', platform: 'browser', target: 'es2022' },
        })
        const files = new Map(outputFiles.map(({ path, text }) => [`/${basename(path)}`, text]))
        const context = await browser.newContext()
        await context.route(`${board}**`, (route) => {
          const code = files.get(new URL(route.request().url()).pathname)
          return code
            ? route.fulfill({ body: code, contentType: 'text/javascript' })
            : route.fulfill({ body: html, contentType: 'text/html' })
        })
        return context
      }

      it('has a page that does what it says', async () => {
        const [html = '', js = ''] = blocksOf(textOf('docs/browser.md')).map(({ code }) => code)
        const context = await contextWith(html, js)
        let [calls, isCut] = [0, false]
        await context.route('https://tides.ebbline.example/**', (route) => {
          if (isCut) return route.abort()
          calls++
          return route.fulfill({ json: { highWater: '05:12' }, headers: { 'access-control-allow-origin': '*' } })
        })
        const began = Date.now()
        const shown = async (minutes: number) => {
          const page = await context.newPage()
          await page.clock.setFixedTime(began + minutes * 60_000)
          await page.goto(board)
          const text = page.getByText('High water')
          await text.waitFor()
          return text.textContent()
        }
        expect(await shown(0)).to.equal('High water 05:12: forwarded, 0 min old')
        expect(await shown(0)).to.equal('High water 05:12: hit, 0 min old')
        isCut = true
        expect(await shown(20)).to.equal('High water 05:12: stale, 20 min old')
        expect(calls).to.equal(1)
        await context.close()
      })

      it('has a store in IndexedDB that opens as it stands', async () => {
        const code = storePrograms.find((one) => one.includes('indexedDbStore')) ?? ''
        const html = '<!doctype html><script type="module" src="page.js"></script>'
        const context = await contextWith(html, `${code}\ndocument.body.append((await stash.status()).store.on)`)
        const page = await context.newPage()
        await page.goto(board)
        await page.getByText('IndexedDB').waitFor()
        await context.close()
      })
    })

  it('leads nowhere that does not exist, in pages and to places in them', () => {
    const slugs = (page: string) =>
      [...textOf(page).matchAll(/^#+ (.*)$/gm)].map(([, title = '']) =>
        title
          .toLowerCase()
          .replace(/[^\w\s-]/g, '')
          .trim()
          .replace(/\s/g, '-'),
      )
    for (const page of pages)
      for (const [, link = ''] of textOf(page)
        .replace(/```[\s\S]*?```/g, '')
        .matchAll(/\]\(([^)\s]+)\)/g)) {
        if (/^https?:/.test(link)) continue
        const [path = '', place] = link.split('#')
        const target = path === '' ? page : join(dirname(page), path)
        expect(existsSync(resolve(root, target)), `${page}: ${link}`).to.equal(true)
        if (place !== undefined) expect(slugs(target), `${page}: ${link}`).to.include(place)
      }
    const shown = readdirSync(`${root}docs/screenshots`).filter((name) => name.endsWith('.png'))
    for (const name of shown) expect(textOf('README.md'), name).to.include(`docs/screenshots/${name}`)
    expect(shown).to.have.length.below(20)
  })

  it('gives an example of each option that the option takes', async () => {
    const rows = [...textOf('docs/options.md').matchAll(/^## (.*)$|^\| `([^`]+)` +\| .*?\| `\2: ([^`]*)` +\|/gm)]
    const within: Record<string, (option: object) => [config: object, at: string]> = {
      '`sets.*`': (option) => [{ sets: { slow: option } }, 'sets.slow'],
      '`providers.*`': (option) => [{ providers: { ebbline: option } }, 'providers.ebbline'],
      '`providers.*.endpoints.*`': (option) => [
        { providers: { ebbline: { endpoints: { tides: option } } } },
        'providers.ebbline.endpoints.tides',
      ],
      '`providers.*.plan`': (option) => [{ providers: { ebbline: { plan: { currency: 'EUR', ...option } } } }, 'providers.ebbline.plan'],
      '`providers.*.quota`': (option) => [
        { providers: { ebbline: { quota: { calls: 1, per: 'day', ...option } } } },
        'providers.ebbline.quota',
      ],
    }
    let [section, checked] = ['', 0]
    for (const [, title, name = '', text] of rows) {
      section = title ?? section
      const configOf = within[section]
      if (title !== undefined || configOf === undefined || /\.\.\./.test(text ?? '')) continue
      const [config, at] = configOf({ [name]: new Function(`return (${text})`)() })
      const faults = await openStash(config).then(
        (stash) => stash.close().then(() => [] as ConfigError['faults']),
        (error: ConfigError) => error.faults,
      )
      const its = faults.filter(
        ({ path, message }) => path.startsWith(`${at}.${name}`) && !/needs|is for|missing|no parameter|without|no set/.test(message),
      )
      expect(its, `${section} ${name}: ${text}`).to.eql([])
      checked++
    }
    expect(checked).to.be.above(60)
  })

  it('is spelt right', () => {
    const spell = nspell({ aff: Buffer.from(dictionary.aff), dic: Buffer.from(dictionary.dic) })
    for (const word of textOf('docs/words.txt').split(/\s+/)) spell.add(word)
    const wrong = new Set<string>()
    for (const page of pages) {
      const prose = textOf(page).replace(/```[\s\S]*?```|`[^`]*`|\]\([^)]*\)|https?:\S+/g, ' ')
      for (const [word] of prose.matchAll(/[A-Za-z][a-z']+(?:[A-Z]\w*)?/g)) {
        const bare = word.replace(/'s?$/, '')
        if (!spell.correct(bare) && !spell.correct(bare.toLowerCase())) wrong.add(`${page}: ${word}`)
      }
    }
    expect([...wrong], 'words of the trade belong into docs/words.txt').to.eql([])
  })

  it('names only commands and options that exist', () => {
    const commands = textOf('docs/commands.md')
    const { scripts } = JSON.parse(textOf('package.json')) as { scripts: Record<string, string> }
    for (const page of pages) {
      const text = textOf(page)
      for (const [, script = ''] of text.matchAll(/npm run (?:--silent )?([\w:]+)/g))
        expect(scripts, `${page}: ${script}`).to.have.property(script)
      if (page === 'docs/commands.md') continue
      for (const [, line = ''] of text.matchAll(/(?:`|^|npx )stashen ([a-z][^`\n]*)/gm)) {
        const [name = ''] = line.split(/\s/)
        if (!/^[a-z]+$/.test(name)) continue
        const section = commands.split(`## \`stashen ${name}\``)[1]?.split('\n## ')[0]
        expect(section, `${page}: stashen ${line}`).to.not.equal(undefined)
        for (const [option] of (line.split(' -- ')[0] ?? '').matchAll(/--[a-z-]+/g))
          expect(section, `${page}: stashen ${line}`).to.include(option)
      }
    }
  })
})
