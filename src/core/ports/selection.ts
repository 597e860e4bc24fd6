/** Which entries are meant. */
export type Selection =
  | { readonly key: string }
  /** The entry under this key, and all whose key begins with it and a space: the variants of one answer, and of its callers. */
  | { readonly under: string }
  /** All whose key begins with this and a question mark: a method and a URL, with whatever query. */
  | { readonly path: string }
  /** Those that have this label. */
  | { readonly label: string }
  /** Those of an endpoint, or of all endpoints of a provider. */
  | { readonly provider: string; readonly endpoint?: string }
  | { readonly all: true }

/** Whether a selection means an entry. For stores without an index of their own. */
export function isSelected(
  selection: Selection,
  entry: { readonly key: string; readonly provider: string; readonly endpoint: string; readonly labels?: readonly string[] | undefined },
): boolean {
  if ('all' in selection) return true
  if ('key' in selection) return entry.key === selection.key
  if ('under' in selection) return entry.key === selection.under || entry.key.startsWith(`${selection.under} `)
  if ('path' in selection) return entry.key.startsWith(`${selection.path}?`)
  if ('label' in selection) return entry.labels?.includes(selection.label) === true
  return entry.provider === selection.provider && (selection.endpoint === undefined || entry.endpoint === selection.endpoint)
}
