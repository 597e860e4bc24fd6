import type { SeenCall } from '../core/traffic/seen-call.js'

/** Where a program that is measured writes what it was seen to do, and what keeps that unreadable. */
export interface MeasureInto {
  readonly folder: string
  readonly salt: string
}

/** What one line of it says: a call, or an origin to which calls went that could not be followed. */
export type SeenLine = SeenCall | { readonly unseen: string }

const variable = 'STASHEN_MEASURE_INTO'

export function measureInto(env: Readonly<Record<string, string | undefined>>): MeasureInto | undefined {
  const text = env[variable]
  return text === undefined ? undefined : (JSON.parse(text) as MeasureInto)
}

/** What of the environment has a process be measured. */
export function measuredVariables(env: NodeJS.ProcessEnv): NodeJS.ProcessEnv {
  return { [variable]: env[variable] }
}

/** The environment of a program that is to be measured. */
export function measuredEnv(env: NodeJS.ProcessEnv, into: MeasureInto, preload: URL): NodeJS.ProcessEnv {
  return { ...env, [variable]: JSON.stringify(into), NODE_OPTIONS: `${env.NODE_OPTIONS ?? ''} --import=${preload.href}`.trim() }
}
