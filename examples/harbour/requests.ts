import { providers } from './config.js'
import { harbour, skerrylightKey, station } from './world.js'

/** One request of the harbour office. */
export interface HarbourRequest {
  readonly url: string
  readonly init?: { readonly method: string; readonly headers: Record<string, string>; readonly body: string }
}

/** Everything the office asks its providers. */
export const requests = {
  findStation: (): HarbourRequest => ({ url: `${providers.ebbline.baseUrl}/stations?name=${station.name}` }),
  station: (): HarbourRequest => ({ url: `${providers.ebbline.baseUrl}/stations/${station.id}` }),
  tides: (day: string): HarbourRequest => ({ url: `${providers.ebbline.baseUrl}/stations/${station.id}/tides?day=${day}` }),
  findVessel: (name: string): HarbourRequest => ({ url: `${providers.skerrylight.baseUrl}/vessels?name=${name}&key=${skerrylightKey}` }),
  position: (id: string): HarbourRequest => ({ url: `${providers.skerrylight.baseUrl}/vessels/${id}/position?key=${skerrylightKey}` }),
  search: (name: string): HarbourRequest => ({
    url: `${providers.skerrylight.baseUrl}/vessels/search?key=${skerrylightKey}`,
    init: sending('POST', { name }),
  }),
  tariff: (): HarbourRequest => ({ url: `${providers.quayrate.baseUrl}/tariffs/${harbour}` }),
  quote: (length: number, nights: number): HarbourRequest => ({
    url: `${providers.quayrate.baseUrl}/quotes?length=${length}&nights=${nights}`,
  }),
  note: (note: string): HarbourRequest => ({
    url: `${providers.quayrate.baseUrl}/tariffs/${harbour}/notes`,
    init: sending('PUT', { note }),
  }),
}

function sending(method: string, body: object): NonNullable<HarbourRequest['init']> {
  return { method, headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) }
}
