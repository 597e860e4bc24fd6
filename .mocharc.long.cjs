const { readdirSync, readFileSync } = require('node:fs')

// tries ten times as much as `npm test`, unless STASHEN_SCALE= says otherwise, in the suites in which that makes a difference
process.env.STASHEN_SCALE ??= '10'
const { spec: all, ...options } = require('./.mocharc.cjs')

const folder = `${__dirname}/dist/test/`
const scales = (name) => name.endsWith('.test.js') && readFileSync(folder + name, 'utf8').includes('/scale.js')

module.exports = {
  ...options,
  ...(all && {
    spec: readdirSync(folder)
      .filter(scales)
      .map((name) => `dist/test/${name}`),
  }),
}
