import { Badge, Card, Group, Stack, Text, Title } from '@mantine/core'
import type { ReactNode } from 'react'
import type { Outcome } from 'stashen'
import type { Shown } from './use-answer.js'

interface TileProps<T> {
  readonly name: string
  readonly title: string
  readonly shown: Shown<T>
  readonly children: (answer: T) => ReactNode
}

/** One fact on the board, with where it came from and how old it is. */
export function Tile<T>({ name, title, shown, children }: TileProps<T>) {
  const { answer, outcome, error } = shown
  return (
    <Card withBorder radius="md" padding="lg" data-tile={name}>
      <Stack gap="xs" h="100%">
        <Title order={2} size="h4">
          {title}
        </Title>
        <div>{answer === undefined ? <Text c="dimmed">{error ? 'nothing to show' : 'asking …'}</Text> : children(answer)}</div>
        {error ? (
          <Badge color="red" variant="light" radius="sm" size="lg" tt="none" mt="auto">
            ✕ {error}
          </Badge>
        ) : (
          outcome && <Source outcome={outcome} />
        )}
      </Stack>
    </Card>
  )
}

function Source({ outcome }: { outcome: Outcome }) {
  const { color, words } = sourceOf(outcome)
  return (
    <Group gap="xs" mt="auto">
      <Badge color={color} variant="light" radius="sm" size="lg" tt="none" data-how={outcome.how}>
        {words}
      </Badge>
      <Text size="sm" c="dimmed">
        {ageWords(outcome.ageMs)}
      </Text>
    </Group>
  )
}

function sourceOf({ how, provider }: Outcome): { color: string; words: string } {
  if (how === 'hit') return { color: 'teal', words: '● from the stash, fresh' }
  if (how === 'stale') return { color: 'orange', words: `▲ older answer: ${provider} fails` }
  return { color: 'blue', words: '↓ just fetched' }
}

function ageWords(ms: number): string {
  const seconds = Math.floor(ms / 1000)
  if (seconds < 1) return 'new'
  return seconds < 90 ? `${seconds} s old` : `${Math.floor(seconds / 60)} min old`
}
