/** The present, moving on every ten seconds, so that relative times stay true. */
export const clock = $state({ now: Date.now() })
setInterval(() => (clock.now = Date.now()), 10_000)
