/** Numbers of units that calls cost besides the call itself, by name, e.g. `{ tokens: 812 }`. */
export type Units = Readonly<Record<string, number>>

/** How many of a unit there are, whatever its name: `constructor` is one like any other. */
export function numberOf(units: Units, name: string): number {
  return Object.hasOwn(units, name) ? (units[name] as number) : 0
}
