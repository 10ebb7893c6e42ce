import { afterEach, beforeEach, expect, it, vi } from 'vitest'

import { type News, Stream } from '../src/api/stream'

/** An EventSource that does as the test says. */
class Source extends EventTarget {
  static all: Source[] = []
  static CLOSED = 2
  readyState = 0
  onmessage?: (m: { data: string }) => void
  onerror?: () => void
  constructor(readonly url: string) {
    super()
    Source.all.push(this)
  }
  close() {
    this.readyState = 2
  }
  hello() {
    this.readyState = 1
    this.dispatchEvent(new Event('hello'))
  }
  fails(closed: boolean) {
    this.readyState = closed ? 2 : 0
    this.onerror?.()
  }
}

let told: News[]
let status: number | Error
beforeEach(() => {
  vi.useFakeTimers()
  Source.all = []
  told = []
  status = 200
  vi.stubGlobal('EventSource', Source)
  vi.stubGlobal('fetch', () =>
    status instanceof Error ? Promise.reject(status) : Promise.resolve({ status }),
  )
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

it('says when news arrives, what changed, and when it breaks off', () => {
  const s = new Stream((n) => told.push(n))
  s.open()
  s.open()
  expect(Source.all).toHaveLength(1)
  Source.all[0]!.hello()
  Source.all[0]!.hello() // it says so every twenty seconds
  Source.all[0]!.onmessage!({ data: '{"topic":"rule","id":"x"}' })
  Source.all[0]!.onmessage!({ data: 'not readable' })
  Source.all[0]!.fails(false)
  Source.all[0]!.hello()
  expect(told).toEqual([
    { kind: 'state', on: true, since: 1 },
    { kind: 'changed', topic: 'rule' },
    { kind: 'changed', topic: 'all' },
    { kind: 'state', on: false, since: 1 },
    { kind: 'state', on: true, since: 2 },
  ])
})

it.each([200, 502, new Error('no answer')])('opens one that was refused again (%s)', async (how) => {
  status = how
  const s = new Stream((n) => told.push(n))
  s.open()
  Source.all[0]!.fails(true)
  await vi.advanceTimersByTimeAsync(10_000)
  expect(Source.all).toHaveLength(2)
  Source.all[1]!.hello()
  expect(told).toEqual([{ kind: 'state', on: true, since: 1 }])
})

it('says that the session has ended, and asks no more', async () => {
  status = 401
  const s = new Stream((n) => told.push(n))
  s.open()
  Source.all[0]!.fails(true)
  await vi.advanceTimersByTimeAsync(60_000)
  expect(told).toEqual([{ kind: 'ended', by: 'service' }])
  expect(Source.all).toHaveLength(1)
  s.open() // somebody signed in
  expect(Source.all).toHaveLength(2)
})

it('stays closed', async () => {
  const s = new Stream((n) => told.push(n))
  s.open()
  Source.all[0]!.fails(true)
  s.close()
  await vi.advanceTimersByTimeAsync(60_000)
  expect(Source.all).toHaveLength(1)
})
