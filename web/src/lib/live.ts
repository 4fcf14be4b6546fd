/** Server-sent events of a running test or round. Answers a function that stops listening. */
export function listen<T>(address: string, take: (seen: T) => void, over: (seen: T) => boolean, failed: () => void): () => void {
  const source = new EventSource(address)
  let ended = false
  source.onmessage = (event) => {
    const seen = JSON.parse(event.data as string) as T
    take(seen)
    if (over(seen)) {
      ended = true
      source.close()
    }
  }
  source.onerror = () => {
    // The browser connects again by itself; a stream that was refused stays closed.
    if (!ended && source.readyState === EventSource.CLOSED) failed()
  }
  return () => source.close()
}
