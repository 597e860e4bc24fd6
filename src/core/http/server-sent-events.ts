/** An event of a stream (HTML Standard, "server-sent events"). */
export interface ServerSentEvent {
  /** `message`, where the stream names none. */
  readonly type: string
  readonly data: string
}

/** The events of an event stream, as section 9.2.6 of the HTML Standard interprets it. One that the stream breaks off in is none. */
export function serverSentEvents(text: string): ServerSentEvent[] {
  const events: ServerSentEvent[] = []
  let type = ''
  let data: string[] = []
  for (const line of text.replace(/^\ufeff/, '').split(/\r\n|\n|\r/)) {
    if (line === '') {
      if (data.length > 0) events.push({ type: type || 'message', data: data.join('\n') })
      type = ''
      data = []
      continue
    }
    const [, name = '', value = ''] = /^([^:]*):? ?(.*)$/s.exec(line) ?? []
    if (name === 'event') type = value
    if (name === 'data') data.push(value)
  }
  return events
}
