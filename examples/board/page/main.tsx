import '@mantine/core/styles.css'
import { MantineProvider } from '@mantine/core'
import { createRoot } from 'react-dom/client'
import { Board } from './board.js'
import { openBoardStash } from './board-stash.js'

const stash = await openBoardStash()
createRoot(document.getElementById('root') as HTMLElement).render(
  <MantineProvider defaultColorScheme="light">
    <Board stash={stash} />
  </MantineProvider>,
)
