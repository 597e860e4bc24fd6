import { readFileSync } from 'node:fs'
import { expect } from 'chai'
import * as stashen from 'stashen'

const { errorCodes } = stashen
const source = ['call-errors', 'setup-errors']
  .map((file) => readFileSync(new URL(`../../src/core/errors/${file}.ts`, import.meta.url), 'utf8'))
  .join('\n')
const documented = readFileSync(new URL('../../docs/errors.md', import.meta.url), 'utf8')
  .split('\n')
  .filter((line) => line.startsWith('| `'))
  .map((line) =>
    line
      .slice(1, -1)
      .split('|')
      .map((cell) => cell.trim()),
  )

describe('the catalogue of errors', () => {
  it('says in the documentation what it says in the code, of every error and of no other', () => {
    const rows = documented.map(([code, , when, next]) => [code?.replaceAll('`', ''), { when, next }])
    expect(Object.fromEntries(rows)).to.eql(errorCodes)
    expect(rows).to.have.length(Object.keys(errorCodes).length)
  })

  it('names the class that throws each code, which anybody can import', () => {
    for (const [code = '', name = ''] of documented.map((cells) => cells.map((cell) => cell.replaceAll('`', '')))) {
      expect(stashen, code).to.have.property(name)
      const [, body = ''] = new RegExp(`class ${name} extends \\w+ {([\\s\\S]*?)\\n}`).exec(source) ?? []
      expect(body, name).to.include(`'${code}'`)
    }
  })

  it('recognises errors of another copy of the package, and keeps causes', () => {
    const cause = new Error('underneath')
    const error = new stashen.StashenError('USAGE', 'wrong', { cause })
    expect([stashen.isStashenError(error), error.cause]).to.eql([true, cause])
    expect(stashen.isStashenError(Object.assign(new Error(), { [Symbol.for('stashen.error')]: true, code: 'USAGE' }))).to.equal(true)
    for (const other of [new Error(), null, 'USAGE', { code: 'USAGE' }]) expect(stashen.isStashenError(other)).to.equal(false)
  })
})
