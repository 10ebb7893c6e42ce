/** What a stream of news says. */
export type News =
  | { kind: 'state'; on: boolean; since: number } // whether news arrives, and how often it began
  | { kind: 'changed'; topic: string }
  | { kind: 'ended'; by: 'person' | 'service' } // the session is over

/** What a tab says to the worker that holds the stream for all of them. */
export type Wish = 'join' | 'leave' | 'end'

const again = 3_000 // milliseconds until a stream that was refused is opened once more

/** Holds one stream of the service's news open (server-sent events) until closed, whatever
 * comes between: a service that starts anew, a proxy that refuses, a session that ends. */
export class Stream {
  private source?: EventSource
  private timer?: ReturnType<typeof setTimeout>
  private on = false
  private since = 0

  constructor(private readonly tell: (news: News) => void) {}

  get state(): News {
    return { kind: 'state', on: this.on, since: this.since }
  }

  open() {
    if (this.source) return
    clearTimeout(this.timer)
    const source = (this.source = new EventSource('/api/v1/live'))
    source.onmessage = (message) => {
      try {
        const { topic } = JSON.parse(message.data as string) as { topic: string }
        this.tell({ kind: 'changed', topic })
      } catch {
        this.tell({ kind: 'changed', topic: 'all' }) // it cannot be read: anything may have changed
      }
    }
    source.addEventListener('hello', () => this.set(true))
    source.onerror = () => {
      this.set(false)
      if (source.readyState === EventSource.CLOSED) void this.refused(source) // it does not try again by itself
    }
  }

  close() {
    clearTimeout(this.timer)
    this.source?.close()
    this.source = undefined
    this.set(false)
  }

  private set(on: boolean) {
    if (on === this.on) return
    this.on = on
    if (on) this.since++
    this.tell(this.state)
  }

  /** Finds out why the service does not give its news: the session ended, or it will again. */
  private async refused(source: EventSource) {
    let status = 0
    try {
      status = (await fetch('/api/v1/session', { signal: AbortSignal.timeout(10_000) })).status
    } catch {
      // It does not answer; it is asked again.
    }
    if (this.source !== source) return
    this.source = undefined
    if (status === 401) return this.tell({ kind: 'ended', by: 'service' })
    this.timer = setTimeout(() => this.open(), again)
  }
}
