import { readFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { demoProviders, runDemo, zone } from '../../examples/harbour/demo.js'
import { sameCall } from '../../examples/harbour/same-call.js'
import type { Demo } from '../../src/cli/cli-context.js'
import { runCli } from '../../src/cli/run.js'

import { isLong } from './scale.js'

export const bin = fileURLToPath(new URL('../../bin/stashen.js', import.meta.url))

const { version } = JSON.parse(readFileSync(new URL('../../../package.json', import.meta.url), 'utf8')) as { version: string }

export interface Printed {
  readonly code: number
  readonly stdout: string
  readonly stderr: string
}

const threeHours = { since: Date.parse('2026-06-30T12:00+02:00'), until: Date.parse('2026-06-30T15:00+02:00') }

/** The demo day; three hours of it, with the outage, where time is short. */
const run: Demo['run'] = (setting) => runDemo({ ...setting, ...(!isLong && threeHours) })

/** Runs the command line's own function in this process, as the program does but for a terminal. */
export async function stashen(...args: string[]): Promise<Printed> {
  const texts = { stdout: '', stderr: '' }
  const stream = (name: keyof typeof texts) => {
    const write = (text: string) => {
      texts[name] += text
    }
    return { write } as unknown as NodeJS.WriteStream
  }
  const { warn } = console
  console.warn = (text: string) => stream('stderr').write(`${text}\n`)
  const demo = async () => ({ zone, providers: demoProviders, sameCall, run })
  try {
    const code = await runCli(args, { stdout: stream('stdout'), stderr: stream('stderr'), version, demo })
    return { code, ...texts }
  } finally {
    console.warn = warn
  }
}

/** The same, called in a folder. */
export async function stashenIn(folder: string, ...args: string[]): Promise<Printed> {
  const before = process.cwd()
  process.chdir(folder)
  try {
    return await stashen(...args)
  } finally {
    process.chdir(before)
  }
}
