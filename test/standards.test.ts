import { expect } from 'chai'
import { type PlayedStep, play, providerOfRows } from './support/standards.play.js'
import { rows } from './support/standards.rows.js'
import { scene } from './support/upstream.js'

/** What each step of a row came to, as one line that a failure shows whole. */
const line = ({ at, got, age, has }: PlayedStep) => [`${at} s`, got, ...(age === undefined ? [] : [`age ${age}`]), ...has].join(', ')

describe('the standards of HTTP caching', () => {
  for (const [index, [section, sentence, kind, first, ...steps]] of rows.entries()) {
    it(`${section}: ${sentence} (${kind})`, () =>
      scene(
        async (now) => {
          const played = await play(now, `/${kind}/${index}`, first, steps)
          expect(played.got.map(line)).to.eql(played.expected.map(line))
        },
        { provider: providerOfRows },
      ))
  }

  it('has at least 150 rows, none of them twice', () => {
    expect(rows.length).to.be.at.least(150)
    const sentences = rows.map(([, sentence, kind]) => `${sentence} (${kind})`)
    expect(sentences.filter((sentence, i) => sentences.indexOf(sentence) !== i)).to.eql([])
  })
})
