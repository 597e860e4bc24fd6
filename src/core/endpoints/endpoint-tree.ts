import type { RequestEndpoint } from './endpoint.js'

interface Node {
  readonly literals: Map<string, Node>
  any: Node | undefined
  /** Endpoints whose path ends here, those with the most fixed query values first. */
  readonly here: RequestEndpoint[]
  /** Endpoints whose path goes on with `*`, in the same order. */
  readonly rest: RequestEndpoint[]
}

/**
 * Endpoints of one provider and method, by the segments of their paths: finding one costs the same for five as for five hundred.
 * The most specific wins: at the first segment where two differ, a literal before `{name}` before `*`; then the one with more fixed
 * query values.
 */
export class EndpointTree {
  readonly #root = newNode()

  add(endpoint: RequestEndpoint): void {
    let node = this.#root
    for (const part of endpoint.template.path) {
      if (part.kind === 'rest') {
        insert(node.rest, endpoint)
        return
      }
      node = part.kind === 'any' ? anyOf(node) : literalOf(node, part.text)
    }
    insert(node.here, endpoint)
  }

  /** The most specific endpoint that covers the segments from `from` on, and the query. */
  find(segments: readonly string[], from: number, url: URL): RequestEndpoint | undefined {
    return find(this.#root, segments, from, url)
  }
}

function find(node: Node, segments: readonly string[], at: number, url: URL): RequestEndpoint | undefined {
  const segment = segments[at]
  if (segment === undefined) return withQuery(node.here, url)
  const literal = node.literals.get(segment)
  return (
    (literal && find(literal, segments, at + 1, url)) ?? (node.any && find(node.any, segments, at + 1, url)) ?? withQuery(node.rest, url)
  )
}

function withQuery(endpoints: readonly RequestEndpoint[], url: URL): RequestEndpoint | undefined {
  const [first] = endpoints
  if (first === undefined || first.template.query.length === 0) return first // which has the most fixed values
  const query = url.searchParams
  return endpoints.find(({ template }) => template.query.every(([name, value]) => hasOnly(query.getAll(name), value)))
}

function hasOnly(values: readonly string[], value: string): boolean {
  return values.length === 1 && values[0] === value
}

function newNode(): Node {
  return { literals: new Map(), any: undefined, here: [], rest: [] }
}

function anyOf(node: Node): Node {
  node.any ??= newNode()
  return node.any
}

function literalOf(node: Node, text: string): Node {
  const known = node.literals.get(text) ?? newNode()
  node.literals.set(text, known)
  return known
}

function insert(list: RequestEndpoint[], endpoint: RequestEndpoint): void {
  list.push(endpoint)
  list.sort((a, b) => b.template.query.length - a.template.query.length)
}
