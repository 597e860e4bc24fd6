import { spawnSync } from 'node:child_process'
import { cpSync, existsSync, mkdirSync, readFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { madeOnce } from './shared-by-suites.js'

const root = fileURLToPath(new URL('../../../', import.meta.url))

interface Manifest {
  readonly version: string
  readonly dependencies?: Record<string, string>
  readonly optionalDependencies?: Record<string, string>
}

/** Makes an empty folder a project that has nothing but the package, as it is published, and what it needs; and `besides`. */
export function packedProject(project: string, besides: readonly string[] = []): void {
  mkdirSync(join(project, 'node_modules'), { recursive: true })
  const { version, dependencies = {}, optionalDependencies = {} } = manifestIn(root)
  const file = `stashen-${version}.tgz`
  const pack = (folder: string) => void ran('npm', ['pack', '--silent', '--ignore-scripts', '--pack-destination', folder], root)
  ran('tar', ['xzf', madeOnce(file, pack)], project)
  copied(join(project, 'package'), join(project, 'node_modules/stashen'))
  for (const name of [...Object.keys({ ...dependencies, ...optionalDependencies }), ...besides]) link(project, name)
}

/** Runs a command that has to succeed; returns what it prints. */
export function ran(command: string, args: readonly string[], cwd: string): string {
  const { status, stdout, stderr } = spawnSync(command, args, {
    cwd,
    encoding: 'utf8',
    env: { ...process.env, NO_COLOR: '1', NODE_PATH: '' },
  })
  expect(status, `${command} ${args.join(' ')}\n${stdout}\n${stderr}`).to.equal(0)
  return stdout
}

/** What a package needs is put beside it, as it would be installed: nothing else of this repository is there. */
function link(project: string, name: string): void {
  const [from, there] = [`${root}node_modules/${name}`, join(project, 'node_modules', name)]
  if (existsSync(there) || !existsSync(from)) return // of another platform
  mkdirSync(dirname(there), { recursive: true })
  copied(from, there)
  const { dependencies = {}, optionalDependencies = {} } = manifestIn(there)
  for (const one of Object.keys({ ...dependencies, ...optionalDependencies }))
    if (!existsSync(join(there, 'node_modules', one))) link(project, one)
}

/** A copy of a folder: by links to its files where they are on the same disk. */
function copied(from: string, to: string): void {
  const { status } = spawnSync('cp', ['-rlL', from, to])
  if (status !== 0) cpSync(from, to, { recursive: true, force: true })
}

function manifestIn(folder: string): Manifest {
  return JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8')) as Manifest
}
