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

const bundle = await rolldown({ input: `${cli}run.js`, platform: 'node', external })
const { output } = await bundle.write({
  dir: cli,
  format: 'esm',
  chunkFileNames: '[name]-[hash].js',
  sourcemap: true,
  minify: { compress: false, mangle: false, codegen: { removeWhitespace: true } },
})

const written = output.flatMap(({ fileName }) => [fileName, `${fileName}.map`])
for (const name of readdirSync(cli)) if (!written.includes(name)) rmSync(`${cli}${name}`)
