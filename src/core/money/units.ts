/** Numbers of units that calls cost besides the call itself, by name, e.g. `{ tokens: 812 }`. */
export type Units = Readonly<Record<string, number>>
