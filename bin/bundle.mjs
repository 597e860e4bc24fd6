// Puts what each command needs into few files, packages included: commands start in a fraction of the time that hundreds of modules take.
import { readdirSync, rmSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { rolldown } from 'rolldown'

const cli = fileURLToPath(new URL('../dist/src/cli/', import.meta.url))
/** What an application brings itself, or may not have. */
const external = [
  /^node:/,
  'libsql',
  'redis',
  'echarts',
  /^echarts\//,
  'fastify',
  /^pure-rand/,
  'prom-client',
  '@opentelemetry/api',
  /^@mswjs\//,
]
const made = { input: `${cli}run.js`, platform: 'node', external, preserveEntrySignatures: 'allow-extension' }

/** The modules that those modules load with themselves, of a bundle as it comes by itself. */
const chunks = (await (await rolldown(made)).generate({ format: 'esm' })).output.filter(({ type }) => type === 'chunk')
function loadedWith(modules) {
  const loaded = new Set()
  const add = (chunk) => {
    if (!chunk || loaded.has(chunk)) return
    loaded.add(chunk)
    for (const name of chunk.imports) add(chunks.find(({ fileName }) => fileName === name))
  }
  for (const chunk of chunks) if (modules.test(chunk.facadeModuleId ?? '')) add(chunk)
  return new Set([...loaded].flatMap(({ moduleIds }) => moduleIds))
}

// what the commands load that are called most, and the fewer files of it the sooner they start: each module in the first that has it
const [start, check, report] = [/\/cli\/run\.js$/, /\/(check-command|load-config)\.js$/, /\/report-command\.js$/].map(loadedWith)
const own = /\/(run|check-command|load-config|report-command)\.js$|node_modules\/(yaml|cli-progress)\//
const group = (name, priority, has) => ({ name, priority, test: (id) => has(id) && !own.test(id) })
const groups = [
  group('start', 4, (id) => start.has(id)),
  group('common', 3, (id) => check.has(id) && report.has(id)),
  group('check', 2, (id) => check.has(id)),
  group('report', 1, (id) => report.has(id)),
]

const { output } = await (await rolldown(made)).write({
  dir: cli,
  format: 'esm',
  chunkFileNames: '[name]-[hash].js',
  sourcemap: true,
  minify: { compress: false, mangle: false, codegen: { removeWhitespace: true } },
  codeSplitting: { includeDependenciesRecursively: false, groups },
})

const written = output.flatMap(({ fileName }) => [fileName, `${fileName}.map`])
for (const name of readdirSync(cli)) if (!written.includes(name)) rmSync(`${cli}${name}`)
