// Mutation testing of src/core and src/engine: changes one place of the built code at a time and sees whether a test fails.
//   npm run mutate                       a sample of every area
//   npm run mutate -- limits --most 400  more of one area; --list prints the mutants that no test noticed (always done), --seed N another sample
import { spawn } from 'node:child_process'
import { cpSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, symlinkSync, writeFileSync } from 'node:fs'
import { availableParallelism } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { parseArgs } from 'node:util'
import { parse } from 'acorn'
import { full } from 'acorn-walk'
import { randomOf } from '../dist/test/support/storm.js'

const root = fileURLToPath(new URL('..', import.meta.url))

/** What is mutated, and the tests that should notice, quickest first. */
const areas = {
  decide: { folders: ['core/decide'], tests: ['bounds', 'core', 'fetch', 'standards', 'freshness', 'explain', 'weather', 'one-path'] },
  rules: {
    folders: ['core/rules'],
    tests: ['rules', 'core', 'keys', 'freshness', 'properties', 'operation', 'config', 'one-path', 'modes', 'budgets'],
  },
  limits: {
    folders: ['core/limits'],
    tests: ['bounds', 'limit-parts', 'limits', 'guards', 'clock-changes', 'forecast', 'budgets', 'weather', 'one-path'],
  },
  money: { folders: ['core/money'], tests: ['bounds', 'guards', 'money', 'budgets', 'report'] },
  http: { folders: ['core/http'], tests: ['core', 'standards', 'freshness', 'limits', 'one-path'] },
  ledger: { folders: ['core/ledger'], tests: ['guards', 'money', 'report', 'forecast', 'journal', 'reconcile', 'budgets'] },
  gate: { folders: ['engine/gate'], tests: ['shared-state', 'weather', 'budgets', 'one-path', 'limits', 'sharing'] },
  engine: {
    folders: ['engine/answer', 'engine/call', 'engine/upstream', 'engine/http', 'engine/operation', 'engine/ledger'],
    tests: ['fetch', 'operation', 'weather', 'one-path', 'bodies', 'standards', 'report', 'journal', 'faults', 'streams'],
  },
}

const { values, positionals } = parseArgs({
  allowPositionals: true,
  options: { most: { type: 'string', default: '60' }, seed: { type: 'string', default: '1' }, list: { type: 'boolean' } },
})
const unknown = positionals.filter((name) => !Object.hasOwn(areas, name))
if (unknown.length > 0) {
  console.error(`no area "${unknown[0]}": name some of ${Object.keys(areas).join(', ')}`)
  process.exit(2)
}

const flips = {
  '<': '<=',
  '<=': '<',
  '>': '>=',
  '>=': '>',
  '===': '!==',
  '!==': '===',
  '&&': '||',
  '||': '&&',
  '+': '-',
  '-': '+',
  '*': '/',
  '/': '*',
}

/** Every single change of a file: from where to where, and what stands there then. */
function mutantsOf(code) {
  const found = []
  const add = (node, text) => found.push({ start: node.start, end: node.end, text })
  const source = (node) => code.slice(node.start, node.end)
  const isText = (node) => node.type === 'TemplateLiteral' || (node.type === 'Literal' && typeof node.value === 'string')
  full(parse(code, { ecmaVersion: 'latest', sourceType: 'module' }), (node) => {
    if ((node.type === 'BinaryExpression' || node.type === 'LogicalExpression') && flips[node.operator]) {
      if (node.operator === '+' && [node.left, node.right].some(isText)) return
      const between = code.slice(node.left.end, node.right.start)
      add(node, `${source(node.left)}${between.replace(node.operator, flips[node.operator])}${source(node.right)}`)
    }
    if (node.type === 'IfStatement' || node.type === 'ConditionalExpression') add(node.test, `!(${source(node.test)})`)
    if (node.type === 'Literal' && typeof node.value === 'boolean') add(node, String(!node.value))
    if (node.type === 'Literal' && typeof node.value === 'number') add(node, String(node.value + 1))
    if (node.type === 'UpdateExpression')
      add(
        node,
        source(node).replace(/\+\+|--/, (sign) => (sign === '++' ? '--' : '++')),
      )
    if (node.type === 'MemberExpression' && source(node) === 'Math.min') add(node, 'Math.max')
    if (node.type === 'MemberExpression' && source(node) === 'Math.max') add(node, 'Math.min')
    if (node.type === 'ExpressionStatement' && /CallExpression|AwaitExpression/.test(node.expression.type)) add(node, ';')
  })
  return found
}

/** A copy of the built package that can be changed. */
function workplace(i) {
  const folder = join(root, '.mutation', String(i))
  rmSync(folder, { recursive: true, force: true })
  mkdirSync(folder, { recursive: true })
  for (const name of ['dist', 'package.json', 'schema', 'docs', 'README.md'])
    cpSync(join(root, name), join(folder, name), { recursive: true })
  symlinkSync(join(root, 'node_modules'), join(folder, 'node_modules'))
  return folder
}

/** Whether every test still passes; a run that takes very long counts as one that fails. */
function passes(folder, tests) {
  return new Promise((resolve) => {
    const files = tests.map((test) => `dist/test/${test}.test.js`).filter((file) => statSync(join(folder, file), { throwIfNoEntry: false }))
    const mocha = join(root, 'node_modules/mocha/bin/mocha.js')
    const child = spawn(process.execPath, [mocha, '--no-config', '--bail', '--exit', '--timeout', '30000', '-R', 'min', ...files], {
      cwd: folder,
      stdio: 'ignore',
    })
    const timer = setTimeout(() => child.kill('SIGKILL'), 150_000)
    child.on('exit', (code) => {
      clearTimeout(timer)
      resolve(code === 0)
    })
  })
}

const workers = Array.from({ length: availableParallelism() }, (_, i) => workplace(i))
for (const name of positionals.length > 0 ? positionals : Object.keys(areas)) {
  const { folders, tests } = areas[name]
  if (!(await passes(workers[0], tests))) {
    console.error(`${name}: its tests fail without any change, so they can tell nothing: see to that first`)
    process.exit(1)
  }
  const all = folders.flatMap((folder) =>
    readdirSync(join(workers[0], 'dist/src', folder))
      .filter((file) => file.endsWith('.js'))
      .flatMap((file) => {
        const path = join('dist/src', folder, file)
        const code = readFileSync(join(workers[0], path), 'utf8')
        return mutantsOf(code).map((mutant) => ({ path, code, ...mutant }))
      }),
  )
  const random = randomOf(Number(values.seed))
  const sample = all
    .map((mutant) => ({ mutant, at: random() }))
    .sort((a, b) => a.at - b.at)
    .slice(0, Number(values.most))
    .map(({ mutant }) => mutant)
  const queue = [...sample]
  const survivors = []
  await Promise.all(
    workers.map(async (folder) => {
      for (let mutant = queue.shift(); mutant; mutant = queue.shift()) {
        const file = join(folder, mutant.path)
        const { code } = mutant
        writeFileSync(file, code.slice(0, mutant.start) + mutant.text + code.slice(mutant.end))
        if (await passes(folder, tests)) {
          const line = code.slice(0, mutant.start).split('\n').length
          survivors.push(
            `  ${mutant.path}:${line}: ${code.slice(mutant.start, mutant.end).slice(0, 90)}  ->  ${mutant.text.slice(0, 90)}`.replace(
              /\s*\n\s*/g,
              ' ',
            ),
          )
        }
        writeFileSync(file, code)
      }
    }),
  )
  const noticed = sample.length - survivors.length
  const score = sample.length === 0 ? 100 : Math.round((1000 * noticed) / sample.length) / 10
  console.log(`${name}: ${noticed} of ${sample.length} noticed (${score}%), of ${all.length} mutants in all`)
  for (const survivor of survivors.sort()) console.log(survivor)
}
rmSync(join(root, '.mutation'), { recursive: true, force: true })
