// Makes the pictures in this folder anew, from the demo data; or those named: `npm run screenshots -- demo explain`. Needs Debian's chromium, xvfb, xterm, imagemagick and fonts-dejavu-core.
import { spawn, spawnSync } from 'node:child_process'
import { once } from 'node:events'
import { fileURLToPath } from 'node:url'
import { chromium } from 'playwright-core'
import { startBoard } from '../../dist/examples/board/serve.js'

const folder = fileURLToPath(new URL('.', import.meta.url))
const root = fileURLToPath(new URL('../../', import.meta.url))
const names = process.argv.slice(2)
const isWanted = (name) => names.length === 0 || names.includes(name)

terminal('demo', 'npx stashen demo', 7)
terminal('report', 'npx stashen report --store stashen-demo.db --since 2026-06-30T14:00+02:00 --until 2026-06-30T15:00+02:00 --zone Europe/Oslo', 7)
terminal(
  'explain',
  'npx stashen explain https://tides.ebbline.example/v2/stations/st-017/tides?day=2026-06-30 --config dist/examples/harbour/stashen.config.js --store stashen-demo.db --at 2026-06-30T23:30+02:00 --zone Europe/Oslo; echo; npx stashen check --config dist/examples/harbour/stashen.config.js',
)
terminal('report-by-hour', 'npx stashen report --store stashen-demo.db --by hour --since 2026-06-30T05:00+02:00 --until 2026-06-30T19:00+02:00 --zone Europe/Oslo', 7)
terminal('report-by-key', 'npx stashen report --store stashen-demo.db --by key --journal stashen-demo.db.calls.jsonl --zone Europe/Oslo', 7)
terminal(
  'report-compare',
  'npx stashen report --store stashen-demo.db --compare 2026-06-30T05:00..2026-06-30T09:00 2026-06-30T13:00..2026-06-30T17:00 --zone Europe/Oslo',
  7,
)
terminal('status', 'npx stashen status --store stashen-demo.db --at 2026-06-30T23:59:50+02:00 --zone Europe/Oslo')
terminal(
  'entries',
  "npx stashen entries --store stashen-demo.db --at 2026-06-30T20:00+02:00 --sort saved --limit 7; echo; npx stashen entries GET\\\\ https://tides.ebbline.example/v2/stations/st-017\\\\ ebbline.station --store stashen-demo.db --at 2026-06-30T20:00+02:00 --zone Europe/Oslo",
)
terminal('measure', 'npx stashen measure -- node dist/examples/harbour/office.js')
if (isWanted('try')) {
  const harbour = spawn(process.execPath, ['dist/examples/harbour/serve.js', '4701'], { cwd: root, stdio: ['ignore', 'pipe', 'inherit'] })
  await once(harbour.stdout, 'data')
  terminal('try', 'npx stashen try http://127.0.0.1:4701/v2/stations/st-017 --fresh-for 1h')
  harbour.kill()
}
terminal('help', 'npx stashen --help')
if (isWanted('report-light')) await htmlReport()
if (isWanted('board')) await board()

/** What commands print in a terminal, as typed: all of it, in letters of a size by which its lines fit. */
function terminal(name, command, size = 11) {
  if (!isWanted(name)) return
  const [columns, rows] = size === 7 ? [211, 130] : [140, 70]
  const script = `
    D=$(mktemp -d); Xvfb -wr -displayfd 3 -screen 0 1280x1800x24 -nolisten tcp 3>$D/d 2>/dev/null & XP=$!
    until [ -s $D/d ]; do sleep .1; done; export DISPLAY=:$(cat $D/d)
    xterm -u8 -fa 'DejaVu Sans Mono' -fs ${size} -b 8 -bw 0 +sb -xrm 'XTerm*color2: #08752f' -xrm 'XTerm*color3: #8a5a00' -xrm 'XTerm*color6: #0b6a88' -geometry ${columns}x${rows}+0+0 -e bash -c "tput civis; ${command.split('; echo; ').map((one) => `echo '$ ${one}'; ${one}`).join('; echo; ')}; touch $D/done; sleep 60" & TP=$!
    until [ -e $D/done ]; do sleep .1; done; sleep .7
    import -window root png:- | convert png:- -trim +repage -bordercolor white -border 8 ${folder}${name}.png; kill $TP $XP; rm -r $D`
  const { status } = spawnSync('bash', ['-c', script], { cwd: root, stdio: 'inherit', env: { ...process.env, npm_config_loglevel: 'error' } })
  if (status !== 0 && status !== null) throw new Error(`no picture of "${command}"`)
}

async function htmlReport() {
  const report = (...args) =>
    spawnSync('node', ['dist/bin/stashen.js', 'report', '--store', 'stashen-demo.db', '--format', 'html', '--zone', 'Europe/Oslo', ...args], {
      cwd: root,
      encoding: 'utf8',
    }).stdout
  const stdout = report()
  const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--headless', '--no-sandbox', '--disable-gpu'] })
  for (const colorScheme of ['light', 'dark']) {
    const tab = await browser.newPage({ viewport: { width: 1280, height: 800 }, colorScheme })
    await tab.setContent(stdout)
    await tab.screenshot({ path: `${folder}report-${colorScheme}.png`, fullPage: true })
  }
  const tab = await browser.newPage({ viewport: { width: 1280, height: 800 } })
  await tab.setContent(report('--until', '2026-06-30T18:00+02:00'))
  await tab.evaluate(() => [...document.querySelectorAll('figure')].find(({ textContent }) => textContent.startsWith('Quota'))?.scrollIntoView())
  await tab.screenshot({ path: `${folder}report-forecast.png` })
  await browser.close()
}

async function board() {
  const page = await startBoard(0)
  const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--headless', '--no-sandbox', '--disable-gpu', '--disable-background-networking'] })
  const tab = await browser.newPage({ viewport: { width: 1280, height: 800 } })
  await tab.goto(page.url)
  await tab.waitForSelector('[data-tile=dues] [data-how=hit]')
  await tab.waitForTimeout(5_000)
  await tab.screenshot({ path: `${folder}board.png` })
  await tab.click('text=Cut ebbline')
  await tab.waitForSelector('[data-tile=tides] [data-how=stale]', { timeout: 60_000 })
  await tab.waitForTimeout(3_000)
  await tab.screenshot({ path: `${folder}board-upstream-cut.png` })
  await browser.close()
  await page.close()
}
