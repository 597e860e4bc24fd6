import { spawnSync } from 'node:child_process'
import { existsSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { temporaryFolder } from './support/files.js'
import { packedProject, ran } from './support/packed-project.js'
import { isLong } from './support/scale.js'

const root = fileURLToPath(new URL('../../', import.meta.url))
const manifest = JSON.parse(readFileSync(`${root}package.json`, 'utf8')) as {
  exports: Record<string, unknown>
}

describe('the package', function () {
  this.timeout(180_000)
  const file = temporaryFolder()
  let project = ''
  let example = ''

  const run = (command: string, args: readonly string[]) => ran(command, args, project)

  before(() => {
    project = file('project')
    packedProject(project)
    example = (/```js\n([\s\S]*?)```/.exec(readFileSync(`${root}README.md`, 'utf8'))?.[1] ?? '').replace('resolve, 200,', 'resolve, 20,')
  })

  it('runs the example of the README in an empty project, as a module and with require', () => {
    expect(example.trim().split('\n').length, 'lines').to.be.within(5, 16)
    writeFileSync(join(project, 'example.mjs'), example)
    const required = example.replace(/^import (\{.*\}) from '(.*)'$/m, "const $1 = require('$2')")
    writeFileSync(join(project, 'example.cjs'), `;(async () => {\n${required}\n})()`)
    for (const name of ['example.mjs', 'example.cjs'])
      expect(run(process.execPath, ['--no-warnings', name]).replace(/\{.*\} /g, '')).to.equal(
        'today forwarded\ntoday hit\ntomorrow forwarded\n1 of 3 calls saved\n',
      )
  })

  it('compiles that example strictly, with the types of a browser alone, however packages are resolved', () => {
    writeFileSync(join(project, 'example.ts'), example)
    const ofBrowsers = Object.entries(manifest.exports).flatMap(([path, to]) =>
      path.endsWith('.json') || (to as { browser?: null }).browser === null ? [] : [`import 'stashen${path.slice(1)}'`],
    )
    expect(ofBrowsers).to.have.length.above(5)
    writeFileSync(join(project, 'parts.ts'), ofBrowsers.filter((line) => !line.includes('testing')).join('\n'))
    writeFileSync(join(project, 'package.json'), '{ "type": "module" }')
    symlinkSync(`${root}node_modules/typescript`, join(project, 'typescript'))
    for (const [moduleResolution, module] of [
      ['nodenext', 'nodenext'],
      ...(isLong
        ? [
            ['node16', 'node16'],
            ['bundler', 'esnext'],
          ]
        : []),
    ]) {
      const compilerOptions = {
        strict: true,
        skipLibCheck: false,
        target: 'es2022',
        module,
        moduleResolution,
        lib: ['es2022', 'dom'],
        types: [],
        noEmit: true,
      }
      writeFileSync(join(project, 'tsconfig.json'), JSON.stringify({ compilerOptions, files: ['example.ts', 'parts.ts'] }))
      run(process.execPath, [`${root}node_modules/typescript/bin/tsc`, '-p', '.'])
    }
  })

  it('has a command line that runs from it, and pages whose links lead somewhere', () => {
    const bin = join(project, 'node_modules/stashen/dist/bin/stashen.js')
    writeFileSync(
      join(project, 'stashen.config.yaml'),
      "providers: { ebbline: { baseUrl: 'https://tides.ebbline.example/v2', endpoints: { tides: { request: 'GET /tides/{day}', freshFor: 1 hour } } } }",
    )
    expect(run(process.execPath, [bin, 'check'])).to.include('no faults')
    expect(run(process.execPath, [bin, 'explain', 'https://tides.ebbline.example/v2/tides/today'])).to.include('ebbline.tides')
    const measured = spawnSync(
      process.execPath,
      [bin, 'measure', '--', process.execPath, '-e', "fetch('http://127.0.0.1:12399/tides').catch(() => {})"],
      {
        ...{ cwd: project, encoding: 'utf8' },
      },
    )
    expect(measured.stderr)
      .to.include('1 call to 1 API')
      .and.to.not.match(/ {4}at /)
    const readme = readFileSync(join(project, 'node_modules/stashen/README.md'), 'utf8')
    for (const [, link = ''] of readme.matchAll(/\]\(([^)#]+)\)/g))
      if (link.startsWith('docs/') && link.endsWith('.md'))
        expect(existsSync(join(project, 'node_modules/stashen', link)), link).to.equal(true)
  })
})
