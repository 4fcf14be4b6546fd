import { afterEach, beforeEach, expect, test, vi } from 'vitest'
import { follow } from './live'

/** A stream of events in the hands of the test. */
class Stream {
  static last: Stream
  onmessage: ((event: { data: string }) => void) | null = null
  closed = false
  constructor() {
    Stream.last = this
  }
  send(seen: unknown): void {
    this.onmessage?.({ data: JSON.stringify(seen) })
  }
  close(): void {
    this.closed = true
  }
}
interface Seen {
  step: number
  over: boolean
}
beforeEach(() => {
  vi.useFakeTimers()
  vi.stubGlobal('EventSource', Stream)
  vi.stubGlobal('window', { setTimeout: setTimeout.bind(globalThis) })
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

function begin(answers: (Seen | Error)[]): {
  taken: number[]
  failed: unknown[]
  asked: () => number
  stop: () => void
} {
  const taken: number[] = []
  const failed: unknown[] = []
  const ask = vi.fn(() => {
    const answer = answers.shift() ?? { step: 9, over: true }
    return answer instanceof Error ? Promise.reject(answer) : Promise.resolve(answer)
  })
  const stop = follow<Seen>(
    '/events',
    ask,
    (seen) => taken.push(seen.step),
    (seen) => seen.over,
    (error) => failed.push(error),
  )
  return { taken, failed, asked: () => ask.mock.calls.length, stop }
}

test('events are taken as they come, and nobody asks while they do', async () => {
  const { taken, asked } = begin([])
  for (const step of [1, 2, 3]) {
    await vi.advanceTimersByTimeAsync(2900)
    Stream.last.send({ step, over: step === 3 })
  }
  await vi.advanceTimersByTimeAsync(60_000)
  expect(taken).toEqual([1, 2, 3])
  expect(asked()).toBe(0)
  expect(Stream.last.closed).toBe(true)
})

test('the end is seen by asking where no event comes', async () => {
  const { taken, asked } = begin([
    { step: 1, over: false },
    { step: 2, over: true },
  ])
  await vi.advanceTimersByTimeAsync(60_000)
  expect(taken).toEqual([1, 2])
  expect(asked()).toBe(2)
  expect(Stream.last.closed).toBe(true)
})

test('an answer that fails is told, and asked for again', async () => {
  const { taken, failed } = begin([new Error('no network'), { step: 5, over: true }])
  await vi.advanceTimersByTimeAsync(60_000)
  expect(failed).toHaveLength(1)
  expect(taken).toEqual([5])
})

test('nothing is taken after it was stopped', async () => {
  const { taken, stop } = begin([])
  stop()
  Stream.last.send({ step: 1, over: false })
  await vi.advanceTimersByTimeAsync(60_000)
  expect(taken).toEqual([])
})
