// Writes the JSON Schemas of configuration files and of reports beside this file, and the reference of options: `npm run schema`.
import { writeFileSync } from 'node:fs'
import { createGenerator } from 'ts-json-schema-generator'
import { configJsonSchema } from '../dist/src/config/json-schema.js'
import { commandReference } from './commands.mjs'
import { optionReference } from './reference.mjs'
import { writeTables } from './tables.mjs'

const write = (name, schema) => writeFileSync(new URL(name, import.meta.url), `${JSON.stringify(schema, null, 2)}\n`)

write('config.schema.json', configJsonSchema())

const root = new URL('..', import.meta.url).pathname
const generator = createGenerator({
  path: `${root}src/core/ledger/report-model.ts`,
  tsconfig: `${root}tsconfig.json`,
  type: 'Report',
  additionalProperties: false,
})
write('report.schema.json', { title: 'What stash.report returns and "stashen report --json" prints', ...generator.createSchema('Report') })

writeFileSync(new URL('../docs/options.md', import.meta.url), optionReference())
writeFileSync(new URL('../docs/commands.md', import.meta.url), commandReference())
writeTables()
