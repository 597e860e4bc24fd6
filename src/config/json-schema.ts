import * as z from 'zod/mini'
import { configSchema } from './schema.js'
import { storeForm } from './store-name.js'

interface Schema {
  properties?: Record<string, Schema>
  additionalProperties?: Schema | boolean
  items?: Schema
  anyOf?: Schema[]
  description?: string
  [keyword: string]: unknown
}

/**
 * The JSON Schema (draft 2020-12) of configuration files in JSON and YAML, for editors: what stands in a file, so without the options
 * that only a module can give (functions, stores, clocks).
 */
export function configJsonSchema(): object {
  const whole = z.toJSONSchema(configSchema, { io: 'input', unrepresentable: 'any' }) as Schema
  const file = withoutCode(whole) as Schema
  const store = { type: 'string', description: `Where answers and the ledger are kept: ${storeForm}. Default: in memory.` }
  return { ...file, title: 'Stashen configuration', properties: { ...file.properties, store } }
}

/** Undefined for what only code can give, which stands as an empty schema; all else without it, and with descriptions. */
function withoutCode(schema: Schema): Schema | undefined {
  if (Object.keys(schema).length === 0) return undefined
  const { properties, items, anyOf, additionalProperties, ...rest } = schema
  const alternatives = anyOf?.map(withoutCode).filter((one) => one !== undefined)
  if (alternatives?.length === 1) return { ...rest, ...alternatives[0] }
  return {
    ...rest,
    ...(alternatives && { anyOf: alternatives }),
    ...(items && { items: withoutCode(items) }),
    ...(additionalProperties !== undefined && {
      additionalProperties: typeof additionalProperties === 'object' ? withoutCode(additionalProperties) : additionalProperties,
    }),
    ...(properties && { properties: described(properties) }),
  }
}

function described(properties: Record<string, Schema>): Record<string, Schema> {
  return Object.fromEntries(
    Object.entries(properties).flatMap(([name, schema]) => {
      const kept = withoutCode(schema)
      if (!kept || Object.keys(kept.properties ?? { any: 1 }).length === 0) return []
      return [[name, kept]]
    }),
  )
}
