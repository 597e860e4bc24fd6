import { spawnSync } from 'node:child_process'
import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'

const root = fileURLToPath(new URL('../../', import.meta.url))
const readme = readFileSync(`${root}README.md`, 'utf8')

describe('the README', () => {
  it('has a quick start of at most 20 lines that runs and prints what it says', () => {
    const code = /```js\n([\s\S]*?)```/.exec(readme)?.[1] ?? ''
    const says = /It prints:\n\n```\n([\s\S]*?)```/.exec(readme)?.[1]
    expect(code.trim().split('\n').length).to.be.within(5, 20)
    const folder = `${root}dist/quick-start`
    rmSync(folder, { recursive: true, force: true })
    mkdirSync(folder, { recursive: true })
    writeFileSync(`${folder}/quick-start.mjs`, code)
    const { status, stdout, stderr } = spawnSync(process.execPath, ['quick-start.mjs'], { cwd: folder, encoding: 'utf8' })
    expect([status, stderr]).to.eql([0, ''])
    expect(stdout).to.equal(says)
  })

  it('shows only pictures and names only commands and files that exist', () => {
    const { scripts } = JSON.parse(readFileSync(`${root}package.json`, 'utf8')) as { scripts: Record<string, string> }
    for (const [, script = ''] of readme.matchAll(/npm run (?:--silent )?([\w:]+)/g)) expect(scripts, script).to.have.property(script)
    const links = [...readme.matchAll(/\]\(([^)#]+)\)/g)].map(([, link = '']) => link).filter((link) => !link.startsWith('http'))
    expect(links).to.have.length.above(3)
    for (const link of links) expect(existsSync(`${root}${link}`), link).to.equal(true)
  })
})
