// Writes the JSON Schema of configuration files beside this file: `npm run schema`.
import { writeFileSync } from 'node:fs'
import { configJsonSchema } from '../dist/src/config/json-schema.js'

writeFileSync(new URL('config.schema.json', import.meta.url), `${JSON.stringify(configJsonSchema(), null, 2)}\n`)
