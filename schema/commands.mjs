// The reference of commands, from what they print for --help.
import { execFileSync } from 'node:child_process'
import { fileURLToPath } from 'node:url'

const bin = fileURLToPath(new URL('../dist/bin/stashen.js', import.meta.url))
const help = (...args) =>
  execFileSync(process.execPath, [bin, ...args, '--help'], { encoding: 'utf8', env: { ...process.env, NO_COLOR: '1' } }).replace(
    / +$/gm,
    '',
  )

const intro = `# Commands

Written by \`npm run schema\` from what the commands print for \`--help\`. Run them with \`npx stashen\`.

## Which configuration, which store

\`stashen.config.{ts,js,json,yaml}\` holds what \`openStash\` takes, as the default export of a module or as data (a \`.ts\` file needs a Node that runs it, 22.18 and
later). Commands read \`--config FILE\`, else the one in this folder or the nearest one above it; the application opens the same one with
\`openStash(await loadConfig())\`, \`loadConfig\` from \`stashen/config\`. Its \`store\` may be named: a file, found from the folder of the configuration, or an address. Without
\`--store\` that store is meant. A store is a file, or \`redis://HOST:PORT[/DATABASE][?prefix=PREFIX]\`.

Editors complete data from the JSON Schema \`node_modules/stashen/schema/config.schema.json\` (\`"$schema"\` in JSON, \`# yaml-language-server: $schema=...\` in YAML).
\`stashen check\` lists all faults of a configuration, in data with line and column.

Moments are ISO 8601 or words: \`now\`, \`today\`, \`yesterday\`, \`last week\`, \`start of month\`, \`7d\`, \`2 h ago\`. Durations are a number and a unit: \`30 s\`, \`1 day\`.

Exit codes: 0 done, 1 failed while running or figures that do not agree, 2 called wrongly. \`stashen measure\` ends with that of the program it ran.
`

export function commandReference() {
  const all = help()
  const names = [...all.matchAll(/^ {2}([a-z]+)(?= )/gm)].map(([, name]) => name)
  const block = (text) => `\`\`\`\n${text.trim()}\n\`\`\`\n`
  return [intro, '## All of them\n', block(all), ...names.flatMap((name) => [`## \`stashen ${name}\`\n`, block(help(name))])].join('\n')
}
