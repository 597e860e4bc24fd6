// `STASHEN_SCALE=10` tries ten times as much of what is random, and all that takes long: `npm run test:long`
process.env.NO_COLOR = '1' // commands that are run in this process print the same wherever that is

/** Files that are named are run alone: `npx mocha dist/test/keys.test.js`. */
const areNamed = process.argv.some((arg) => /\w\.test\.js$/.test(arg))

module.exports = {
  ...(!areNamed && { spec: ['dist/test/*.test.js'] }),
  require: ['dist/test/support/shared-by-suites.js'],
  reporter: 'dist/test/support/slowest-reporter.js',
  'node-option': ['max-semi-space-size=32'], // suites allocate a lot: a larger young generation is collected less often
  timeout: 300_000,
  parallel: true,
  jobs: 4,
}
