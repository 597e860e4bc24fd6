import { MissingPackageError } from '../core/errors/setup-errors.js'
import type { Figures, Report } from '../core/ledger/report-model.js'

type Client = typeof import('prom-client')

/** The package `prom-client`, as far as its types matter here: they are not needed where it is not used. */
interface GivenClient {
  readonly Counter: unknown
  readonly Gauge: unknown
  readonly Registry: unknown
}

/** Counts of a report that become counters: name, help, and by which label which figures. */
const counters = [
  {
    name: 'stashen_calls_total',
    help: 'Calls of the application, by how they were answered.',
    label: 'how',
    figures: {
      fresh: ({ fromStore }: Figures) => fromStore,
      stale: ({ stale }: Figures) => stale,
      collapsed: ({ collapsed }: Figures) => collapsed,
      fallback: ({ fallback }: Figures) => fallback,
      failed: ({ errored }: Figures) => errored,
      abandoned: ({ abandoned }: Figures) => abandoned,
      forwarded: ({ asked, fromStore, stale, collapsed, fallback, errored, abandoned }: Figures) =>
        asked - fromStore - stale - collapsed - fallback - errored - abandoned,
    },
  },
  {
    name: 'stashen_upstream_calls_total',
    help: 'Calls that left for a provider, by how they ended.',
    label: 'ending',
    figures: {
      answered: ({ upstream, unmodified, refused, failed }: Figures) => upstream - unmodified - refused - failed,
      unmodified: ({ unmodified }: Figures) => unmodified,
      refused: ({ refused }: Figures) => refused,
      failed: ({ failed }: Figures) => failed,
    },
  },
  {
    name: 'stashen_refreshed_answers_total',
    help: 'Refreshed answers, by whether they differed from the ones before.',
    label: 'outcome',
    figures: { changed: ({ changed }: Figures) => changed, unchanged: ({ unchanged }: Figures) => unchanged },
  },
]

/**
 * A report in the Prometheus text exposition format (version 0.0.4), by provider and endpoint: counters of calls, upstream calls and
 * refreshed answers, money spent, and what callers waited. `client` is the package `prom-client`, loaded where it is not given; throws
 * `MissingPackageError` where it is not installed. Give it the whole ledger, `await stash.report()`: counters must not fall.
 */
export async function prometheusText(report: Report, client?: GivenClient): Promise<string> {
  const { Counter, Gauge, Registry } = (client as Client | undefined) ?? (await load())
  const registers = [new Registry()]
  const lines = report.providers.flatMap(({ provider, endpoints }) =>
    endpoints.flatMap(({ endpoint, without, with: reused }) => [
      ...(reused ? [{ provider, endpoint, mode: 'reuse', figures: reused }] : []),
      ...(without.basis === 'measured' && without.asked > 0 ? [{ provider, endpoint, mode: 'measure', figures: without }] : []),
    ]),
  )
  const where = ['provider', 'endpoint', 'mode']
  for (const { name, help, label, figures } of counters) {
    const counter = new Counter({ name, help, labelNames: [...where, label], registers })
    for (const { figures: counted, ...labels } of lines) {
      for (const [value, count] of Object.entries(figures)) counter.inc({ ...labels, [label]: value }, count(counted))
    }
  }
  const evicted = new Counter({
    name: 'stashen_evicted_total',
    help: 'Answers dropped from the store to make room while they were fresh.',
    labelNames: where,
    registers,
  })
  const refetched = new Counter({
    name: 'stashen_refetched_total',
    help: 'Upstream calls for an answer that had been evicted and would have been fresh still.',
    labelNames: where,
    registers,
  })
  for (const { figures, ...labels } of lines) {
    evicted.inc(labels, figures.evicted)
    refetched.inc(labels, figures.refetched)
  }
  const help = `${report.savedMeans} What there would be without the stash is ${report.totals.without.basis}.`
  const saved = new Gauge({ name: 'stashen_saved_calls', help, labelNames: ['provider', 'endpoint'], registers })
  for (const { provider, endpoints } of report.providers)
    for (const { endpoint, saved: its } of endpoints) if (its) saved.set({ provider, endpoint }, its.calls)
  const withheld = new Counter({
    name: 'stashen_withheld_total',
    help: 'Calls that Stashen refused, or whose caller left before they could leave.',
    labelNames: where,
    registers,
  })
  for (const { figures, ...labels } of lines) withheld.inc(labels, figures.withheld)
  const notStored = new Counter({
    name: 'stashen_not_stored_total',
    help: 'Good answers that were not stored, by why.',
    labelNames: [...where, 'why'],
    registers,
  })
  for (const { figures, ...labels } of lines)
    for (const [why, count] of Object.entries(figures.notStored)) notStored.inc({ ...labels, why }, count)
  const spent = new Gauge({
    name: 'stashen_spent',
    help: 'Price of the upstream calls, in units of the currency.',
    labelNames: [...where, 'currency'],
    registers,
  })
  const fees = new Gauge({
    name: 'stashen_fees',
    help: 'Fees of plans, which belong to no endpoint, in units of the currency: with stashen_spent all that was spent.',
    labelNames: ['provider', 'currency'],
    registers,
  })
  for (const { provider, fees: its } of report.providers)
    for (const { currency, amount } of its.with ?? its.without) fees.set({ provider, currency }, Number(amount))
  const waited = new Gauge({
    name: 'stashen_call_duration_seconds',
    help: 'How long callers waited for an answer, within 1%.',
    labelNames: [...where, 'quantile'],
    registers,
  })
  for (const { figures, ...labels } of lines) {
    for (const { currency, amount } of figures.money) spent.set({ ...labels, currency }, Number(amount))
    if (!figures.latencyMs) continue
    waited.set({ ...labels, quantile: '0.5' }, figures.latencyMs.median / 1000)
    waited.set({ ...labels, quantile: '0.95' }, figures.latencyMs.p95 / 1000)
  }
  return (registers[0] as InstanceType<typeof Registry>).metrics()
}

async function load(): Promise<Client> {
  try {
    return await import('prom-client')
  } catch (cause) {
    throw new MissingPackageError('prom-client', 'prometheusText', { cause })
  }
}
