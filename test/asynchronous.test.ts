import { spawnSync } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { isLong } from './support/scale.js'

const suites = [
  ...['fetch', 'weather', 'operation'],
  ...(isLong ? ['keys', 'freshness', 'explain', 'modes', 'standards', 'observers', 'budgets', 'forecast'] : []),
]

describe('on a store that answers a tick later', () => {
  it('every behaviour is the same', () => {
    const files = suites.map((suite) => fileURLToPath(new URL(`./${suite}.test.js`, import.meta.url)))
    const mocha = fileURLToPath(new URL('../../node_modules/mocha/bin/mocha.js', import.meta.url))
    const { status, stdout } = spawnSync(process.execPath, [mocha, '--no-config', '--timeout', '300000', '-R', 'dot', ...files], {
      encoding: 'utf8',
      env: { ...process.env, STASHEN_TEST_STORE: 'asynchronous' },
    })
    expect(status, stdout.slice(stdout.indexOf('passing'))).to.equal(0)
    expect(Number(/(\d+) passing/.exec(stdout)?.[1])).to.be.above(isLong ? 300 : 60)
  })
})
