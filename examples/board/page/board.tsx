import { Container, SimpleGrid, Stack, Table, Text, Title } from '@mantine/core'
import type { Stash } from 'stashen'
import { requests } from '../../harbour/requests.js'
import { dayOf, vessels } from '../../harbour/world.js'
import { ProvidersBar } from './providers-bar.js'
import { Tile } from './tile.js'
import { useAnswer } from './use-answer.js'

interface Tides {
  readonly tides: readonly { readonly at: string; readonly turn: string; readonly metres: number }[]
}

interface Position {
  readonly name: string
  readonly underWay: boolean
  readonly lat: number
  readonly lon: number
  readonly knots: number
}

interface Tariff {
  readonly edition: string
  readonly perMetreNight: string
  readonly currency: string
}

/** The board in the harbour office's window. */
export function Board({ stash }: { stash: Stash }) {
  return (
    <Container size="lg" py="xl">
      <Stack gap="lg">
        <div>
          <Title order={1}>Kelpmouth departures</Title>
          <Text c="dimmed">Every tile asks every two seconds; the stash decides how often the provider hears of it.</Text>
        </div>
        <ProvidersBar stash={stash} />
        <SimpleGrid cols={{ base: 1, sm: 2, lg: 3 }}>
          <TideTile stash={stash} />
          {vessels.slice(0, 3).map(({ id, name }) => (
            <VesselTile key={id} stash={stash} id={id} name={name} />
          ))}
          <DuesTile stash={stash} />
        </SimpleGrid>
      </Stack>
    </Container>
  )
}

function TideTile({ stash }: { stash: Stash }) {
  const shown = useAnswer<Tides>(stash, requests.tides(dayOf(Date.now())).url)
  return (
    <Tile name="tides" title="Tides today" shown={shown}>
      {({ tides }) => (
        <Table withRowBorders={false} verticalSpacing={2} horizontalSpacing={0}>
          <Table.Tbody>
            {tides.map(({ at, turn, metres }) => (
              <Table.Tr key={at}>
                <Table.Td>{at}</Table.Td>
                <Table.Td>{turn}</Table.Td>
                <Table.Td ta="right">{metres.toFixed(2)} m</Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
    </Tile>
  )
}

function VesselTile({ stash, id, name }: { stash: Stash; id: string; name: string }) {
  const shown = useAnswer<Position>(stash, requests.position(id).url)
  return (
    <Tile name={name} title={name} shown={shown}>
      {({ underWay, lat, lon, knots }) => (
        <>
          <Text size="xl" fw={600}>
            {underWay ? `under way, ${knots} knots` : 'in port'}
          </Text>
          <Text>
            {lat.toFixed(4)}° N, {lon.toFixed(4)}° E
          </Text>
        </>
      )}
    </Tile>
  )
}

function DuesTile({ stash }: { stash: Stash }) {
  const shown = useAnswer<Tariff>(stash, requests.tariff().url)
  return (
    <Tile name="dues" title="Harbour dues" shown={shown}>
      {({ perMetreNight, currency, edition }) => (
        <>
          <Text size="xl" fw={600}>
            {currency} {perMetreNight}
          </Text>
          <Text>a metre and night, tariff {edition}</Text>
        </>
      )}
    </Tile>
  )
}
