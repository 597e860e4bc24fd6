import leven from 'leven'
import { z } from 'zod'

/** `: did you mean "x"?` with the nearest of the known names, a list of them if none is near and they are options, else nothing. */
export function withNearest(given: string, known: readonly string[]): string {
  const [nearest] = [...known].sort((a, b) => distance(given, a) - distance(given, b))
  return nearest !== undefined && distance(given, nearest) <= Math.max(2, given.length / 3) ? `: did you mean "${nearest}"?` : ''
}

function distance(one: string, other: string): number {
  return leven(one.toLowerCase(), other.toLowerCase())
}

/** The option names that a schema knows at a path. */
export function optionNamesAt(schema: z.ZodType, path: readonly PropertyKey[], value: unknown): string[] {
  if (schema instanceof z.ZodOptional) return optionNamesAt(schema.unwrap() as z.ZodType, path, value)
  if (schema instanceof z.ZodUnion) return optionNamesAt(schema.options[Array.isArray(value) ? 1 : 0] as z.ZodType, path, value)
  const [step, ...rest] = path
  if (step === undefined) return schema instanceof z.ZodObject ? Object.keys(schema.shape) : []
  const inner = (value as Record<PropertyKey, unknown> | undefined)?.[step]
  if (schema instanceof z.ZodObject) return optionNamesAt(schema.shape[step as string], rest, inner)
  if (schema instanceof z.ZodRecord) return optionNamesAt(schema.valueType as z.ZodType, rest, inner)
  if (schema instanceof z.ZodArray) return optionNamesAt(schema.element as z.ZodType, rest, inner)
  return []
}
