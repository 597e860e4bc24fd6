import { Button, Group, Text } from '@mantine/core'
import { useEffect, useState } from 'react'
import type { Report, Stash } from 'stashen'

const names = ['ebbline', 'skerrylight', 'quayrate'] as const

/** Cuts and restores the upstreams, and says what the stash has saved so far. */
export function ProvidersBar({ stash }: { stash: Stash }) {
  const [cut, setCut] = useState<readonly string[]>([])
  const turn = async (name: string) => {
    const isCut = cut.includes(name)
    await fetch(`/control/${name}/${isCut ? 'restore' : 'cut'}`, { method: 'POST' })
    setCut(isCut ? cut.filter((one) => one !== name) : [...cut, name])
  }
  return (
    <Group justify="space-between">
      <Group>
        {names.map((name) => (
          <Button
            key={name}
            variant={cut.includes(name) ? 'filled' : 'outline'}
            color={cut.includes(name) ? 'orange' : 'gray'}
            onClick={() => turn(name)}
          >
            {cut.includes(name) ? `Restore ${name}` : `Cut ${name}`}
          </Button>
        ))}
      </Group>
      <Saved stash={stash} />
    </Group>
  )
}

function Saved({ stash }: { stash: Stash }) {
  const [report, setReport] = useState<Report>()
  useEffect(() => {
    const timer = setInterval(async () => setReport(await stash.report()), 2_000)
    return () => clearInterval(timer)
  }, [stash])
  const saved = report?.totals.saved
  if (!report || !saved) return <Text c="dimmed">counting …</Text>
  return (
    <Text data-saved={saved.upstreamCalls}>
      {report.totals.without.asked} calls asked, {report.totals.with?.upstream} went upstream, {saved.upstreamCalls} saved
    </Text>
  )
}
