const { availableParallelism } = require('node:os')

module.exports = {
  spec: ['dist/test/**/*.test.js'],
  'node-option': ['enable-source-maps'],
  timeout: 300_000,
  parallel: true,
  jobs: Math.max(2, availableParallelism()),
}
