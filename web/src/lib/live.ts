/**
 * Follows a running test or round: by server-sent events as it goes, and by asking when there has
 * been no news for a while, so that its end
 * is seen whatever becomes of the events. `ask` fetches the same thing; `failed` hears of it when
 * asking fails too. Answers a function
 * that stops.
 */
export function follow<T>(
  address: string,
  ask: () => Promise<T>,
  take: (seen: T) => void,
  over: (seen: T) => boolean,
  failed: (error: unknown) => void,
  quiet = 3000,
): () => void {
  const source = new EventSource(address)
  let ended = false
  let timer = 0
  function stop(): void {
    ended = true
    clearTimeout(timer)
    source.close()
  }
  function news(seen: T): void {
    if (ended) return
    take(seen)
    if (over(seen)) stop()
    else wait()
  }
  function wait(): void {
    clearTimeout(timer)
    timer = window.setTimeout(() => {
      ask().then(news, (error: unknown) => {
        if (ended) return
        failed(error)
        wait()
      })
    }, quiet)
  }
  source.onmessage = (event) => news(JSON.parse(event.data as string) as T)
  wait()
  return stop
}
