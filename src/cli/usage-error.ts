/** Something wrong with how a command was called: one line that says what and what next, exit code 2. */
export class UsageError extends Error {
  override readonly name = 'UsageError'
}
