#!/usr/bin/env node
import { readFileSync } from 'node:fs'
import * as modules from 'node:module'
import type { Demo } from '../src/cli/cli-context.js'
import { MissingPackageError } from '../src/core/errors/setup-errors.js'

const { version } = JSON.parse(readFileSync(new URL('../../package.json', import.meta.url), 'utf8')) as { version: string }

// keeps compiled code for the next time, where Node can (22.8 and later)
;(modules as { enableCompileCache?: () => void }).enableCompileCache?.()
const { runCli } = await import('../src/cli/run.js')

// whoever reads the output may have had enough of it, such as "head"
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code !== 'EPIPE') throw error
  process.exit()
})

// and who reads what is said besides: what a command does is done all the same
process.stderr.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code !== 'EPIPE') throw error
})

process.exitCode = await runCli(process.argv.slice(2), {
  stdout: process.stdout,
  stderr: process.stderr,
  version,
  demo: loadDemo,
})

/** The demo's simulated providers stand on packages that the library itself does not need. */
async function loadDemo(): Promise<Demo> {
  try {
    const { runDemo, demoProviders, zone } = await import('../examples/harbour/demo.js')
    const { sameCall } = await import('../examples/harbour/same-call.js')
    return { zone, providers: demoProviders, sameCall, run: runDemo }
  } catch (cause) {
    if ((cause as { code?: string }).code !== 'ERR_MODULE_NOT_FOUND') throw cause
    throw new MissingPackageError('fastify pure-rand', 'the demo', { cause })
  }
}
