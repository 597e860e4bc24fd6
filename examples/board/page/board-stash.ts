import { openStash, type ProviderOptions, type Stash } from 'stashen'
import { indexedDbStore } from 'stashen/indexeddb'
import { layeredStore } from 'stashen/layered'
import { providers } from '../../harbour/config.js'

/** The office's providers, fresh for seconds where the office has minutes and hours, so that a visitor sees them expire. */
const boardProviders = {
  ebbline: { ...providers.ebbline, timeout: '5 s', endpoints: { tides: hasty(providers.ebbline.endpoints.tides, '20 s') } },
  skerrylight: {
    ...providers.skerrylight,
    timeout: '5 s',
    endpoints: { position: hasty(providers.skerrylight.endpoints.position, '10 s') },
  },
  quayrate: { ...providers.quayrate, timeout: '5 s', endpoints: { tariff: hasty(providers.quayrate.endpoints.tariff, '30 s') } },
} satisfies Record<string, ProviderOptions>

function hasty({ request }: { request: string }, freshFor: string) {
  return { request, freshFor, staleIfError: '1 hour', holdOff: '10 s' }
}

/** A stash in the browser's database, which a reload finds again and all tabs share; its upstream calls go through the page's own server. */
export function openBoardStash(): Promise<Stash> {
  const hosts = Object.entries(providers).map(([name, { baseUrl }]) => [new URL(baseUrl).origin, `/upstream/${name}`] as const)
  return openStash({
    store: layeredStore({ far: indexedDbStore({ name: 'kelpmouth board' }), nearFor: '1 min' }),
    providers: boardProviders,
    fetch: (input, init) => {
      const url = String(input)
      const [origin = '', path = ''] = hosts.find(([from]) => url.startsWith(from)) ?? []
      return globalThis.fetch(url.replace(origin, path), init)
    },
  })
}
