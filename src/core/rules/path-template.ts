/** A compiled path template: one string a literal segment, null for a `{name}` that any one segment matches. */
export type PathTemplate = readonly (string | null)[]

/** Method and path template of `"GET /stations/{id}"`, or undefined where the text is neither. */
export function parseRequestTemplate(text: string): { method: string; path: PathTemplate } | undefined {
  const parts = /^([A-Z]+) (\/\S*)$/.exec(text)
  if (!parts) return undefined
  const path = segmentsOf(parts[2] as string).map((segment) => (/^\{\w+\}$/.test(segment) ? null : segment))
  if (path.some((segment) => segment !== null && /[{}?#]/.test(segment))) return undefined
  return { method: parts[1] as string, path }
}

/** The segments of a path, percent-encoding untouched: `/a/b` has two, `/` has one empty one. */
export function segmentsOf(path: string): string[] {
  return path.slice(1).split('/')
}

export function pathMatches(template: PathTemplate, segments: readonly string[]): boolean {
  return template.length === segments.length && template.every((part, i) => part === null || part === segments[i])
}

/** Negative where `a` is the more specific: at the first place where they differ in kind, it has the literal segment. */
export function compareSpecificity(a: PathTemplate, b: PathTemplate): number {
  for (const [i, part] of a.entries()) {
    if ((part === null) !== (b[i] === null)) return part === null ? 1 : -1
  }
  return 0
}

/** The same for two templates that match exactly the same paths. */
export function templateShape(template: PathTemplate): string {
  return template.map((part) => part ?? '{}').join('/')
}
