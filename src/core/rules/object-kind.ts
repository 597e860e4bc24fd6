/** Objects in objects, at the most. */
export const deepest = 500

/** What of an object makes it more than what it holds: whatever is not simply a member with a value. */
export type Oddity = 'members that do not show in it' | 'members named by symbols' | 'a getter' | 'members besides its items'

/** Whether an object is one that a literal makes, of any realm, or one without a prototype. */
export function isPlainObject(value: object): boolean {
  const prototype = Object.getPrototypeOf(value)
  return prototype === null || isRootPrototype(prototype)
}

/** Whether an object is an array, of any realm, and not of a class made from arrays. */
export function isPlainArray(value: object): value is unknown[] {
  if (!Array.isArray(value)) return false
  const prototype = Object.getPrototypeOf(value)
  return Array.isArray(prototype) && isRootPrototype(Object.getPrototypeOf(prototype)) // `Array.prototype` is an array itself
}

/** Whether it is the `Object.prototype` of some realm, not an object that others inherit members from. */
function isRootPrototype(prototype: object | null): boolean {
  return prototype !== null && Object.getPrototypeOf(prototype) === null && Object.hasOwn(prototype, 'isPrototypeOf')
}

/** What is odd in a plain object or an array; undefined where its members are all there is to it. */
export function oddityOf(value: object): Oddity | undefined {
  const isArray = Array.isArray(value)
  const names = Reflect.ownKeys(value)
  let indexes = 0
  for (const name of names) {
    if (typeof name === 'symbol') return 'members named by symbols'
    if (isArray && name === 'length') continue
    if (isArray && !isIndex(name)) return 'members besides its items'
    const member = Object.getOwnPropertyDescriptor(value, name)
    if (member?.get || member?.set) return 'a getter'
    if (!member?.enumerable) return 'members that do not show in it'
    indexes++
  }
  return isArray && indexes > value.length ? 'members besides its items' : undefined
}

/** Typed arrays with more items are not searched for other members: it would take longer than all else. */
const mostItems = 65_536

/** Whether a typed array, a buffer, a date, a map or a set has members of its own, which say nothing of what it holds. */
export function hasOwnMembers(value: object): boolean {
  if (!ArrayBuffer.isView(value) || value instanceof DataView) return Reflect.ownKeys(value).length > 0
  const { length } = value as Uint8Array
  return length <= mostItems && Reflect.ownKeys(value).length > length
}

/** The built-in kind of an object, by its tag, unless it is of a class made from one; a Node `Buffer` is one of its own. */
export function builtInKind(value: object): string | undefined {
  const kind = Object.prototype.toString.call(value).slice(8, -1)
  const its: unknown = value.constructor
  const name = typeof its === 'function' ? its.name : undefined
  const above = Object.getPrototypeOf(Object.getPrototypeOf(value) ?? Object.prototype)
  if (name === 'Buffer' && kind === 'Uint8Array') return Object.hasOwn(its as object, 'isBuffer') ? name : undefined
  const isTyped = ArrayBuffer.isView(value) && kind !== 'DataView'
  const isDirect = isRootPrototype(isTyped && above ? Object.getPrototypeOf(above) : above)
  return name === kind && isDirect ? kind : undefined
}

function isIndex(name: string): boolean {
  return /^(0|[1-9]\d{0,9})$/.test(name)
}
