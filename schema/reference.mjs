import * as z from 'zod/mini'
import { exampleOf } from '../dist/src/config/option-examples.js'
import { callOptionsSchema } from '../dist/src/config/reuse-schema.js'
import { configSchema, operationSchema } from '../dist/src/config/schema.js'

/** The reference page of all options, made of the schema that checks them. */
export function optionReference() {
  const sections = []
  const seen = new Set()
  /** What endpoints, operations, defaults and sets have in common, by name. */
  const common = new Map()
  const commonTitle = '`sets.*`'
  const json = (schema) => z.toJSONSchema(schema, { io: 'input', unrepresentable: 'any' })

  function section(title, intro, schema, path) {
    const { properties: all = {}, required = [] } = schema
    const isCommon = (name, option) => title !== commonTitle && JSON.stringify(option) === common.get(name)
    const properties = Object.fromEntries(Object.entries(all).filter(([name, option]) => !isCommon(name, option)))
    if (title === commonTitle) for (const [name, option] of Object.entries(all)) common.set(name, JSON.stringify(option))
    const id = JSON.stringify(Object.keys(properties).sort())
    if (Object.keys(properties).length === 0 || seen.has(id)) return
    seen.add(id)
    const inner = []
    const rows = Object.entries(properties).map(([name, option]) => {
      inner.push([name, option])
      const byDefault = required.includes(name) ? 'required' : option.default === undefined ? '' : `\`${JSON.stringify(option.default)}\``
      return `| \`${name}\` | ${takes(option)} | ${byDefault} | ${cell(exampleFor(option, [...path.split('.'), name]))} | ${cell(option.description ?? '')} |`
    })
    sections.push(
      `## ${title}\n\n${intro}\n\n| option | takes | default | example | what it does |\n| --- | --- | --- | --- | --- |\n${rows.join('\n')}\n`,
    )
    for (const [name, option] of inner) nested(name, option, `${path}.${name}`)
  }

  function nested(name, option, path) {
    const objects = [option, ...(option.anyOf ?? [])].flatMap((one) => {
      if (one.properties) return [[one, path]]
      if (typeof one.additionalProperties === 'object') return expand(one.additionalProperties, `${path}.*`)
      return one.items ? expand(one.items, `${path}[]`) : []
    })
    for (const [one, at] of objects)
      section(
        `\`${at.replace(/^config\./, '')}\``,
        at === 'config.sets.*'
          ? 'Options that sets, defaults, endpoints and operations have in common.'
          : at.includes('.endpoints') && at.split('.').length === 4
            ? 'Options of an endpoint, besides the common ones.'
            : `Options of \`${name}\`.`,
        one,
        at,
      )
  }

  function expand(schema, path) {
    return [schema, ...(schema.anyOf ?? [])].filter(({ properties }) => properties).map((one) => [one, path])
  }

  section('The configuration', 'What `openStash` takes, and a configuration file.', json(configSchema), 'config')
  section(
    'Operations',
    'What `stash.operation` takes: the options of an endpoint that do not speak of HTTP, and these.',
    json(operationSchema),
    'operation',
  )
  section('Calls', 'What `stash.calling` and `operation.calling` take.', json(callOptionsSchema), 'calling')
  return `# Options

Every option, with what it takes and what holds where it is left out. This page is made from the schema that checks configurations
(\`npm run schema\`). Durations are a number and a unit, \`"30 s"\`, \`"5 min"\`, \`"1 day"\`, \`"1 month"\`, or \`"forever"\`; only 0 needs no unit. Prices are decimals in quotes.

${sections.join('\n')}`
}

const cell = (text) => text.replaceAll('|', '\\|')

/** What an option looks like: as the table of examples says, else a value that it takes. */
function exampleFor(option, path) {
  const value = exampleOf(path) ?? usualFor(option)
  if (value === undefined) throw new Error(`${path.join('.')} has no example: give it one in src/config/option-examples.ts`)
  return `\`${path.at(-1)}: ${value}\``
}

function usualFor(option) {
  if (option.enum) return JSON.stringify(option.enum.find((value) => value !== option.default))
  if (option.const !== undefined) return JSON.stringify(option.const)
  if (option.pattern?.includes('(illi)')) return '"30 s"'
  if (option.type === 'boolean') return String(option.default !== true)
  if (typeof option.default === 'number') return String(option.default)
  return option.anyOf?.map(usualFor).find((one) => one !== undefined)
}

/** What an option takes, in a few words. */
function takes(schema) {
  if (schema.enum) return schema.enum.map((value) => `\`${JSON.stringify(value)}\``).join(', ')
  if (schema.const !== undefined) return `\`${JSON.stringify(schema.const)}\``
  if (schema.pattern?.includes('(illi)')) return schema.pattern.includes('minute') ? 'a unit or a duration' : 'a duration'
  if (schema.anyOf) return [...new Set(schema.anyOf.map(takes))].join(', or ')
  if (schema.type === 'array') return 'a list'
  if (schema.type === 'object') return 'an object'
  if (schema.type === 'integer') return 'a whole number'
  if (schema.type === 'string') return 'text'
  if (Array.isArray(schema.type)) return schema.type.join(', ')
  return schema.type === undefined ? 'code' : `a ${schema.type}`
}
