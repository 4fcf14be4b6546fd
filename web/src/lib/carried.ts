/**
 * An API description that was pasted on some page, on its way to where an application is added from
 * it.
 */
let description = ''

/** Carry it to the next page that takes it. */
export function carry(text: string): void {
  description = text
}

/** Take what was carried here, once. */
export function carried(): string {
  const text = description
  description = ''
  return text
}
