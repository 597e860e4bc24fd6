import type { ConfigFault } from '../core/errors/setup-errors.js'

interface Labelled {
  readonly labels?: unknown
  readonly invalidates?: unknown
}

/** Whose labels they are. `parameters` are those of its path. */
interface Owner {
  readonly parameters: readonly string[]
  /** Whether it changes something, so that its answers are not stored. */
  readonly isWrite: boolean
  readonly of: string
}

/** Faults among the labels of an endpoint or operation. The shape may be wrong too: what cannot be read is passed over. */
export function labelFaults({ labels, invalidates }: Labelled, { parameters, isWrite, of }: Owner, path: string): ConfigFault[] {
  const faults: ConfigFault[] = []
  for (const [option, sources] of Object.entries({ labels, invalidates })) {
    if (!Array.isArray(sources)) continue
    for (const [i, source] of sources.entries()) {
      if (typeof source !== 'string') continue
      for (const [whole, name = ''] of source.matchAll(/\{(\w*)\}/g)) {
        if (parameters.includes(name)) continue
        const known = parameters.length > 0 ? `: it has ${parameters.map((one) => `"{${one}}"`).join(', ')}` : ''
        faults.push({ path: `${path}.${option}[${i}]`, message: `has "${whole}", which is no parameter of ${of}${known}` })
      }
    }
  }
  if (labels !== undefined && isWrite) {
    const message = 'does nothing, for answers to a write are not stored: with "invalidates" it says whose answers its calls change'
    faults.push({ path: `${path}.labels`, message })
  }
  if (invalidates !== undefined && !isWrite)
    faults.push({ path: `${path}.invalidates`, message: 'is for what changes something: calls whose answers are stored change nothing' })
  return faults
}
